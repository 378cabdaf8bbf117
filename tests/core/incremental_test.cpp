#include "base/digest.hpp"
#include "firmware/package.hpp"
#include "firmware/payload.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"
#include "verified/hash_tree.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

constexpr std::size_t kBlock = 4096;

std::shared_ptr<const BaseImages> base_of(const std::string& name, const std::string& image) {
  auto firmware = std::make_unique<Firmware>();
  firmware->partitions.push_back(
      {.name = name,
       .size = image.size(),
       .content = content_of(open_memory(blob(image), "old/" + name + ".img"))});
  return std::make_shared<const BaseImages>(std::move(firmware), "old");
}

/// boot, from an older one: a copy in another order, a patch of each form, zeros, something new.
struct Update {
  std::string before = noise(8 * kBlock, 1), after;
  PayloadBytes payload;

  Update() {
    const auto old = [&](std::size_t block, std::size_t count = 1) {
      return before.substr(block * kBlock, count * kBlock);
    };
    std::string edited = old(4, 2);
    edited[5000] ^= 1;
    after = old(3) + old(0) + edited + std::string(kBlock, '\0') + noise(kBlock, 9) + edited;
    Partition& p = payload.partitions.emplace_back();
    p = {.name = "boot", .image = after, .old_image = before};
    const auto add = [&](Operation operation) { p.operations.push_back(std::move(operation)); };
    add({.type = 4,
         .start = 0,
         .blocks = 2,
         .sources = {{3, 1}, {0, 1}},
         .source_sha256 = sha256(old(3) + old(0))});
    add({.type = 5,
         .data = bsdiff(old(4, 2), edited),
         .start = 2,
         .blocks = 2,
         .sources = {{4, 2}},
         .source_sha256 = sha256(old(4, 2))});
    add({.type = 6, .start = 4, .blocks = 1});
    add({.type = 8, .data = xz(noise(kBlock, 9)), .start = 5, .blocks = 1});
    add({.type = 10,
         .data = bsdiff(old(4, 2), edited, std::string("\0\1\1", 3)),
         .start = 6,
         .blocks = 2,
         .sources = {{4, 2}}});
  }

  Result<std::string> read(const std::string& base) const {
    Opening opening{.context = {.jobs = 2}, .base_build = "korvale/gnomon:1"};
    if (!base.empty()) opening.base = base_of("boot", base);
    WEXLO_TRY(const FirmwarePtr firmware,
              open_payload(open_memory(blob(payload.done()), "p.bin"), opening));
    CHECK(firmware->incremental);
    WEXLO_TRY(const Blob bytes, read_partition(*firmware->find("boot"), 1u << 24, opening.context));
    return text(bytes.view());
  }
};

}  // namespace

TEST_CASE("incremental: copies and both forms of patches give the new image") {
  const Update update;
  CHECK(update.read(update.before).value() == update.after);
}

TEST_CASE("incremental: a wrong base is told as such, with the build it has to be") {
  Update update;
  std::string wrong = update.before;
  wrong[7 * kBlock] ^= 1;  // no operation reads it
  const auto bad = update.read(wrong);
  REQUIRE_FALSE(bad);
  CHECK(bad.error().code == ErrorCode::DigestMismatch);
  CHECK(bad.error().file == "old/boot.img");
  CHECK(bad.error().hint.find("korvale/gnomon:1") != std::string::npos);
  CHECK(update.read(update.before.substr(0, kBlock)).error().code == ErrorCode::DigestMismatch);
  // Without a digest of the whole, the operations' own are checked.
  update.payload.partitions[0].old_image.clear();
  CHECK(update.read(wrong));
  wrong[0] ^= 1;
  const auto operation = update.read(wrong);
  REQUIRE_FALSE(operation);
  CHECK(operation.error().message.find("operation 0 (SOURCE_COPY)") != std::string::npos);
}

TEST_CASE(
    "incremental: without a base, and of kinds that cannot be done, it is said before any work") {
  Update update;
  const auto none = update.read("");
  REQUIRE_FALSE(none);
  CHECK(none.error().code == ErrorCode::Unsupported);
  CHECK(none.error().hint.find("--base") != std::string::npos);
  for (const auto& [type, name] :
       {std::pair{11u, "ZUCCHINI"}, {12u, "LZ4DIFF_BSDIFF"}, {2u, "MOVE"}, {99u, "type 99"}}) {
    update.payload.partitions[0].operations[4].type = type;
    const auto bad = update.read(update.before);
    REQUIRE_FALSE(bad);
    CHECK(bad.error().code == ErrorCode::Unsupported);
    CHECK(bad.error().message.find(name) != std::string::npos);
  }
}

TEST_CASE("incremental: sources outside the older image, patches that do not fit") {
  Update update;
  update.payload.partitions[0].old_image.clear();
  update.payload.partitions[0].operations[0].sources = {{7, 2}};
  CHECK(update.read(update.before).error().code == ErrorCode::OutOfRange);
  update = Update();
  update.payload.partitions[0].operations[1].blocks = 1;
  CHECK_FALSE(update.read(update.before));
  update = Update();
  update.payload.partitions[0].operations[1].sha256 = sha256("x");
  CHECK(update.read(update.before).error().code == ErrorCode::DigestMismatch);
}

TEST_CASE("incremental: the tree and the codes that a phone generates are generated") {
  const std::size_t data = 300, salt_size = 20;
  const std::string content = noise(data * kBlock, 5), salt = noise(salt_size, 6);
  const verified::ReadData read = [&](std::uint64_t at, MutableView out) {
    std::memcpy(out.data(), content.data() + at, out.size());
    return Status();
  };
  const auto tree =
      verified::build_hash_tree(read, content.size(), DigestKind::Sha256, blob(salt), {});
  REQUIRE(tree);
  std::string whole = content + text(tree->tree);
  const std::size_t tree_blocks = tree->tree.size() / kBlock;
  CHECK(tree_blocks == 1 + 3);
  const std::uint64_t codes = verified::fec_size(whole.size(), 2);
  std::string fec(codes, '\0');
  REQUIRE(verified::build_fec(
      [&](std::uint64_t at, MutableView out) {
        std::memcpy(out.data(), whole.data() + at, out.size());
        return Status();
      },
      whole.size(), 2,
      [&](std::uint64_t at, View bytes) {
        fec.replace(at, bytes.size(), text(bytes));
        return Status();
      },
      {}));
  PayloadBytes payload;
  Partition& p = payload.partitions.emplace_back(partition_of("system", content, 8, 32));
  p.image = whole + fec;
  p.generated = Partition::Generated{
      .data_blocks = data, .tree_blocks = tree_blocks, .fec_blocks = codes / kBlock, .salt = salt};
  const auto extract = [&] {
    const Opening opening{.context = {.jobs = 2}};
    const auto firmware = open_payload(open_memory(blob(payload.done()), "p.bin"), opening).value();
    return read_partition(*firmware->find("system"), 1u << 24, opening.context);
  };
  CHECK(text(extract()->view()) == p.image);
  p.generated->algorithm = "whirlpool";
  CHECK(extract().error().code == ErrorCode::Unsupported);
  p.generated->algorithm = "sha256";
  p.generated->tree_blocks = 2;
  CHECK(extract().error().code == ErrorCode::BadValue);
}

TEST_CASE("payload: version 1, with two partitions that have no names") {
  PayloadBytes payload;
  payload.version = 1;
  payload.partitions.push_back(partition_of("boot", noise(4 * kBlock), 0));
  // Its manifest may name partitions as later ones do.
  const auto firmware = open_payload(open_memory(blob(payload.done()), "p.bin"), {});
  REQUIRE(firmware);
  CHECK(text(read_partition(*(*firmware)->find("boot"), 1u << 20, {})->view()) ==
        noise(4 * kBlock));
}

TEST_CASE("payload: groups of logical partitions are told") {
  PayloadBytes payload;
  payload.partitions.push_back(partition_of("system", noise(kBlock), 0));
  payload.groups = {{"korvale_dynamic", {"system", "vendor"}}};
  const auto firmware = open_payload(open_memory(blob(payload.done()), "p.bin"), {}).value();
  REQUIRE(firmware->groups.size() == 1);
  CHECK(firmware->groups[0].partitions == std::vector<std::string>{"system", "vendor"});
}

TEST_CASE(
    "incremental: any sector of an error correction's own data can be lost and is recovered") {
  // The parity bytes make each codeword a multiple of the generator: its value at each root is 0.
  const std::string content = noise(40 * kBlock, 3);
  for (const unsigned roots : {2u, 5u, 24u}) {
    std::string fec(verified::fec_size(content.size(), roots), '\0');
    REQUIRE(verified::build_fec(
        [&](std::uint64_t at, MutableView out) {
          std::memcpy(out.data(), content.data() + at, out.size());
          return Status();
        },
        content.size(), roots,
        [&](std::uint64_t at, View bytes) {
          fec.replace(at, bytes.size(), text(bytes));
          return Status();
        },
        {.jobs = 2}));
    const auto times = [](unsigned a, unsigned b) {
      unsigned out = 0;
      for (; b != 0; b >>= 1, a = a << 1 ^ (a & 0x80 ? 0x11D : 0))
        if (b & 1) out ^= a;
      return out & 0xff;
    };
    const std::size_t data = 255 - roots;
    for (const std::size_t word : {std::size_t{0}, std::size_t{1}, std::size_t{4095}}) {
      unsigned root = 1;
      for (unsigned i = 0; i < roots; ++i, root = times(root, 2)) {
        unsigned value = 0;
        for (std::size_t j = 0; j < 255; ++j) {
          const std::size_t at = word + j * kBlock;
          const char byte = j >= data             ? fec[word * roots + j - data]
                            : at < content.size() ? content[at]
                                                  : '\0';
          value = times(value, root) ^ static_cast<unsigned char>(byte);
        }
        CHECK(value == 0);
      }
    }
  }
}
