#include "firmware/payload.hpp"

#include "base/digest.hpp"
#include "firmware/package.hpp"
#include "support/check.hpp"
#include "support/payload.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::string image_of(std::size_t blocks, std::uint32_t seed) {
  std::string out = noise(blocks * 4096, seed);
  for (std::size_t i = 0; i < out.size(); i += 3)
    out[i] = 'k';  // compressible
  return out;
}

Result<FirmwarePtr> open(const std::string& bytes, const Opening& opening = {}) {
  return open_payload(open_memory(blob(bytes), "payload.bin"), opening);
}

Result<std::string> extract_one(const PayloadBytes& payload, const std::string& name,
                                unsigned jobs = 2) {
  WEXLO_TRY(const auto firmware, open(payload.done()));
  const Context context{.jobs = jobs};
  WEXLO_TRY(const Blob bytes, read_partition(*firmware->find(name), 64u << 20, context));
  return text(bytes.view());
}

PayloadBytes two_partitions() {
  PayloadBytes payload;
  payload.partitions.push_back(partition_of("init_boot", image_of(64, 1), 8));
  payload.partitions.push_back(partition_of("vbmeta", image_of(2, 2), 0));
  return payload;
}

}  // namespace

TEST_CASE("payload: every kind of operation gives the image, with any number of threads") {
  for (const std::uint32_t type : {0u, 1u, 8u})
    for (const unsigned jobs : {1u, 2u, 7u}) {
      CAPTURE(type);
      PayloadBytes payload;
      payload.partitions.push_back(partition_of("boot", image_of(200, type + 5), type, 16));
      CHECK(extract_one(payload, "boot", jobs).value() == image_of(200, type + 5));
    }
}

TEST_CASE("payload: ZERO and DISCARD read as zeros, a metadata signature is stepped over") {
  PayloadBytes payload;
  payload.signature = noise(267);
  Partition& p = payload.partitions.emplace_back(partition_of("boot", image_of(4, 1), 0));
  p.image += std::string(8 * 4096, '\0');
  p.operations.push_back({.type = 6, .start = 4, .blocks = 4});
  p.operations.push_back({.type = 7, .start = 8, .blocks = 4});
  CHECK(extract_one(payload, "boot").value() == p.image);
  // What stands at the start of a partition is told without reading all of it.
  for (const std::uint32_t type : {6u, 7u}) {
    PayloadBytes empty;
    empty.partitions.push_back({.name = "misc", .image = std::string(8192, '\0')});
    empty.partitions[0].operations.push_back({.type = type, .start = 0, .blocks = 2});
    const FirmwarePtr firmware =
        value_of(open_payload(open_memory(blob(empty.done()), "p.bin"), {}));
    CHECK(value_of(firmware->find("misc")->content->head(64)) == Bytes(64));
  }
}

TEST_CASE("payload: destinations in any order, blobs too") {
  const std::string raw = image_of(6, 3);
  PayloadBytes payload;
  Partition& p = payload.partitions.emplace_back(Partition{.name = "boot"});
  p.image = raw.substr(4 * 4096, 2 * 4096) + raw.substr(0, 4 * 4096);
  p.operations.push_back({.type = 8, .data = xz(raw), .start = 2, .blocks = 4, .more = {{0, 2}}});
  CHECK(extract_one(payload, "boot").value() == p.image);
}

TEST_CASE("payload: a partition whose size is no multiple of the block") {
  PayloadBytes payload;
  Partition& p = payload.partitions.emplace_back(partition_of("boot", image_of(3, 3), 8));
  p.image.resize(3 * 4096 - 100);
  CHECK(extract_one(payload, "boot").value() == p.image);
}

TEST_CASE("payload: facts of partitions and build, unknown fields skipped") {
  const auto firmware = open(two_partitions().done());
  REQUIRE(firmware);
  REQUIRE((*firmware)->partitions.size() == 2);
  const PartitionFacts& init_boot = (*firmware)->partitions[0];
  CHECK(init_boot.name == "init_boot");
  CHECK(init_boot.size == 64 * 4096);
  CHECK(init_boot.operations == 16);
  CHECK(init_boot.sha256 == hex_of(sha256(image_of(64, 1))));
  CHECK((*firmware)->build.patch_level == "2026-09-05");
  CHECK_FALSE((*firmware)->incremental);
  CHECK((*firmware)->find("nothing") == nullptr);
}

TEST_CASE("payload: a blob with the wrong digest names operation, offset and both digests") {
  PayloadBytes payload = two_partitions();
  std::string bytes = payload.done();
  const std::string blob_bytes = payload.partitions[0].operations[3].data;
  const std::size_t at = bytes.find(blob_bytes);
  bytes[at + 60] = static_cast<char>(bytes[at + 60] ^ 1);
  const auto firmware = open(bytes);
  const Context context;
  const auto error = read_partition(*(*firmware)->find("init_boot"), 64u << 20, context).error();
  CHECK(error.code == ErrorCode::DigestMismatch);
  CHECK(error.offset == at);
  CHECK(error.message.find("operation 3 (REPLACE_XZ) of partition init_boot") != std::string::npos);
  CHECK(error.expected == hex_of(sha256(blob_bytes)));
  CHECK(error.found.size() == 64);
  CHECK(error.found != error.expected);
  // The other partition is not concerned.
  CHECK(read_partition(*(*firmware)->find("vbmeta"), 64u << 20, context));
}

TEST_CASE("payload: without a blob's digest the partition's own is what counts") {
  PayloadBytes payload = two_partitions();
  for (auto& operation : payload.partitions[0].operations)
    operation.sha256 = "";
  CHECK(extract_one(payload, "init_boot"));
  payload.partitions[0].sha256 = sha256("something else");
  const auto bad = extract_one(payload, "init_boot");
  REQUIRE_FALSE(bad);
  CHECK(bad.error().code == ErrorCode::DigestMismatch);
  CHECK(bad.error().expected == hex_of(sha256("something else")));
}

TEST_CASE("payload: compressed data that decodes to less or more than its place") {
  for (const std::size_t blocks : {3u, 5u}) {
    PayloadBytes payload;
    Partition& p = payload.partitions.emplace_back(Partition{.name = "boot"});
    p.image = image_of(4, 1);
    p.operations.push_back({.type = 8, .data = xz(image_of(blocks, 1)), .blocks = 4});
    CHECK_FALSE(extract_one(payload, "boot"));
  }
  PayloadBytes payload;
  Partition& p =
      payload.partitions.emplace_back(Partition{.name = "boot", .image = image_of(4, 1)});
  const std::string packed = xz(p.image);
  p.operations.push_back({.type = 8, .data = packed.substr(0, packed.size() / 2), .blocks = 4});
  CHECK(extract_one(payload, "boot").error().code == ErrorCode::Truncated);
  p.operations[0].data = noise(500);
  CHECK(extract_one(payload, "boot").error().code == ErrorCode::Corrupt);
}

TEST_CASE("payload: destinations outside, twice, or missing are refused before anything is read") {
  const auto with = [](std::uint64_t start, std::uint64_t blocks) {
    PayloadBytes payload;
    Partition& p = payload.partitions.emplace_back(partition_of("boot", image_of(8, 1), 0));
    p.operations[1].start = start;
    p.operations[1].blocks = blocks;
    return extract_one(payload, "boot").error();
  };
  CHECK(with(5, 4).code == ErrorCode::OutOfRange);
  // That start writes nowhere: what it should have written is missing.
  CHECK(with(~std::uint64_t{0}, 4).message.find("do not fill it") != std::string::npos);
  CHECK(with(4, ~std::uint64_t{0}).code == ErrorCode::OutOfRange);
  CHECK(with(3, 4).message.find("write twice to block 3") != std::string::npos);
  CHECK(with(5, 3).message.find("leave out block 4") != std::string::npos);
}

TEST_CASE("payload: data that claims to lie outside the file") {
  for (const std::uint64_t offset : {std::uint64_t{1} << 20, ~std::uint64_t{0}}) {
    PayloadBytes payload = two_partitions();
    payload.partitions[1].operations[0].data_offset = offset;
    const auto bad = extract_one(payload, "vbmeta");
    REQUIRE_FALSE(bad);
    CHECK(bad.error().code == ErrorCode::Truncated);
  }
  PayloadBytes payload = two_partitions();
  payload.partitions[1].operations[0].data_length = ~std::uint64_t{0};
  CHECK(extract_one(payload, "vbmeta").error().code == ErrorCode::Truncated);
}

TEST_CASE("payload: sizes that are impossible are refused, not allocated") {
  PayloadBytes payload = two_partitions();
  payload.partitions[0].size = ~std::uint64_t{0} / 2;
  CHECK(open(payload.done()).error().code == ErrorCode::LimitExceeded);
  payload.partitions[0].size = std::uint64_t{1} << 33;
  CHECK(extract_one(payload, "init_boot").error().code == ErrorCode::LimitExceeded);
  payload = two_partitions();
  payload.manifest_size = ~std::uint64_t{0};
  CHECK(open(payload.done()).error().code == ErrorCode::Truncated);
  payload.manifest_size = std::uint64_t{1} << 60;
  CHECK(open(payload.done()).error().offset == 12);
}

TEST_CASE("payload: more partitions than any phone has are refused") {
  PayloadBytes payload;
  for (int i = 0; i < 1025; ++i)
    payload.partitions.push_back({.name = "p" + std::to_string(i), .image = "", .operations = {}});
  CHECK(open(payload.done()).error().code == ErrorCode::LimitExceeded);
  payload.partitions.pop_back();
  CHECK(open(payload.done()));
}

TEST_CASE("payload: names that are paths are refused") {
  for (const char* name : {"../boot", "a/b", "/etc/passwd", "", ".hidden", "a\nb", ".."}) {
    PayloadBytes payload = two_partitions();
    payload.partitions[1].name = name;
    const auto bad = open(payload.done());
    REQUIRE_FALSE(bad);
    CHECK(bad.error().code == ErrorCode::UnsafePath);
  }
  PayloadBytes payload = two_partitions();
  payload.partitions[1].name = "init_boot";
  CHECK(open(payload.done()).error().code == ErrorCode::BadValue);
}

TEST_CASE("payload: versions, magics and block sizes that are not known") {
  PayloadBytes payload = two_partitions();
  payload.version = 3;
  CHECK(open(payload.done()).error().code == ErrorCode::Unsupported);
  CHECK(open("CrAX" + std::string(100, '\0')).error().code == ErrorCode::BadMagic);
  payload = two_partitions();
  for (const std::uint32_t size : {0u, 1u, 4095u, 1u << 30}) {
    payload.block_size = size;
    CHECK(open(payload.done()).error().code == ErrorCode::BadValue);
  }
}

TEST_CASE("payload: an incremental one is told, and what needs the old build is named") {
  PayloadBytes payload = two_partitions();
  payload.partitions[0].operations[2].type = 4;
  const auto firmware = open(payload.done());
  CHECK((*firmware)->incremental);
  const auto error = extract_one(payload, "init_boot").error();
  CHECK(error.code == ErrorCode::Unsupported);
  CHECK(error.message.find("SOURCE_COPY") != std::string::npos);
  CHECK(extract_one(payload, "vbmeta"));
}

TEST_CASE("payload: every prefix of header and manifest is refused") {
  const std::string whole = two_partitions().done();
  const std::size_t blobs = whole.find(two_partitions().partitions[0].operations[0].data);
  for (std::size_t size = 0; size < blobs; ++size)
    CHECK_FALSE(open(whole.substr(0, size)));
  // Cut inside the blobs: it opens, and reading says what is missing.
  const auto cut = open(whole.substr(0, blobs + 100));
  REQUIRE(cut);
  const Context context;
  CHECK(read_partition(*(*cut)->find("init_boot"), 1u << 20, context).error().code ==
        ErrorCode::Truncated);
}

TEST_CASE("ota zip: the build's facts come from its metadata") {
  const std::string metadata =
      "ota-type=AB\npost-build=korvale/vernier/vernier:16/A/1:user/release-keys\r\n"
      "pre-device=vernier\npost-security-patch-level=2026-08-01\npost-timestamp=1788588000\n";
  const std::string bytes = zip({{"META-INF/com/android/metadata", metadata, true},
                                 {"payload.bin", two_partitions().done()}});
  const auto firmware = open_zip(open_memory(blob(bytes), "ota.zip"), {});
  REQUIRE(firmware);
  const BuildFacts& build = (*firmware)->build;
  CHECK(build.fingerprint == "korvale/vernier/vernier:16/A/1:user/release-keys");
  CHECK(build.device == "vernier");
  CHECK(build.patch_level == "2026-08-01");
  CHECK(build.timestamp == 1788588000);
  CHECK((*firmware)->layers[0].kind == "zip");
  CHECK((*firmware)->layers[1].kind == "payload");
  const Context context;
  CHECK(read_partition(*(*firmware)->find("init_boot"), 1u << 20, context));
}

TEST_CASE("ota zip: a compressed payload is read all the same, a broken one is named") {
  const auto opened = [](const std::string& bytes) {
    return open_zip(open_memory(blob(bytes), "ota.zip"), {});
  };
  const auto deflated = opened(zip({{"payload.bin", two_partitions().done(), true}}));
  REQUIRE(deflated);
  CHECK(text(read_partition(*(*deflated)->find("init_boot"), 1u << 20, {})->view()) ==
        image_of(64, 1));
  CHECK(opened(zip({{"readme", "nothing here"}})).error().code == ErrorCode::NoPartitions);
  const auto broken = opened(zip({{"payload.bin", "CrAU"}}));
  REQUIRE_FALSE(broken);
  CHECK(broken.error().file == "ota.zip!payload.bin");
}
