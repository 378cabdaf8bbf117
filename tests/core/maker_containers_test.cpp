/// Makers' containers: the record container, the packed download container, and what is named
/// alone.

#include "base/crc16.hpp"
#include "core/package_bench.hpp"
#include "firmware/named_kinds.hpp"
#include "support/packages.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::vector<RecordBytes> usual_records() {
  return {{.name = "SHA256RSA", .data = noise(256, 9)},
          {.name = "BOOT", .data = boot_image()},
          {.name = "RECOVERY_RAMDIS", .data = noise(9001, 2)},
          {.name = "SYSTEM", .data = SparseBytes().raw(noise(8192, 3)).skip(2).done()}};
}

ErrorCode opens_with(const std::string& bytes, const std::string& name = "x.bin") {
  const auto opened = open(bytes, name);
  return opened ? ErrorCode::Internal : opened.error().code;
}

}  // namespace

namespace {

/// Counts what is read of it.
class CountedSource final : public Source {
 public:
  CountedSource(SourcePtr inner, std::uint64_t& count)
      : Source(inner->name()), inner_(std::move(inner)), count_(count) {}
  std::uint64_t size() const override { return inner_->size(); }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    count_ += out.size();
    return inner_->read_at(offset, out);
  }

 private:
  SourcePtr inner_;
  std::uint64_t& count_;
};

}  // namespace

TEST_CASE(
    "containers: opening one reads its tables and what tells each partition's kind, no more") {
  constexpr std::uint64_t kTables = 64u << 10, kEach = 48u << 10;
  std::vector<RecordBytes> records{{.name = "BOOT", .data = boot_image()}};
  DownloadBytes packed{.files = {{"B", "boot.img", boot_image()}}};
  for (unsigned i = 0; i < 20; ++i) {
    records.push_back({.name = "PART" + std::to_string(i), .data = noise(1u << 20, i + 1)});
    packed.files.push_back({"", "part" + std::to_string(i) + ".img", noise(1u << 20, i + 50)});
  }
  for (const std::string& bytes : {record_container(records), packed.done()}) {
    std::uint64_t count = 0;
    const auto firmware =
        open_source(std::make_shared<CountedSource>(open_memory(blob(bytes), "x.bin"), count), {});
    REQUIRE(firmware);
    CHECK((*firmware)->partitions.size() == 21);
    CHECK(count <= kTables + kEach * (*firmware)->partitions.size());
  }
}

TEST_CASE("records: every record is a partition, with or without the zeros in front") {
  for (const bool lead : {true, false}) {
    const auto firmware = open(record_container(usual_records(), lead), "UPDATE.APP");
    REQUIRE(firmware);
    CHECK((*firmware)->kind == "record-container");
    CHECK(content(**firmware, "boot").value() == boot_image());
    CHECK(content(**firmware, "recovery_ramdisk").value() == noise(9001, 2));
    CHECK(content(**firmware, "system").value() == noise(8192, 3) + std::string(8192, '\0'));
    MemorySink sink;
    CHECK((*firmware)->find("boot")->content->read(sink, {}, {})->proof == "crc-16");
    MemorySink sparse;
    CHECK((*firmware)->find("system")->content->read(sparse, {}, {})->proof == "crc-16");
  }
}

TEST_CASE("records: inside a zip, stored and deflated") {
  const std::string inner = record_container(usual_records());
  for (const bool deflated : {false, true}) {
    const auto firmware = open(zip({{"dload/UPDATE.APP", inner, deflated}}));
    REQUIRE(firmware);
    CHECK(content(**firmware, "boot").value() == boot_image());
    CHECK((*firmware)->find("boot")->from == "dload/UPDATE.APP!BOOT");
  }
}

TEST_CASE("records: a block that does not have its sum is found, a sparse one's too") {
  for (std::size_t which : {std::size_t{1}, std::size_t{3}}) {
    auto records = usual_records();
    records[which].bad_block = 1;
    const auto firmware = open(record_container(records));
    REQUIRE(firmware);
    const std::string name = which == 1 ? "boot" : "system";
    const auto bad = content(**firmware, name);
    REQUIRE_FALSE(bad);
    CHECK(bad.error().code == ErrorCode::DigestMismatch);
    CHECK(bad.error().offset == 4096);
    CHECK(bad.error().expected.size() == 4);
    CHECK(bad.error().found != bad.error().expected);
    CHECK(content(**firmware, "recovery_ramdisk"));
  }
  auto records = usual_records();
  records[1].sums = false;
  const auto firmware = open(record_container(records));
  MemorySink sink;
  CHECK((*firmware)->find("boot")->content->read(sink, {}, {})->proof.empty());
}

TEST_CASE("records: cut at every structure, with lying sizes and names with paths") {
  const std::string whole = record_container(usual_records());
  for (const std::size_t size : {std::size_t{100}, std::size_t{92 + 97}, std::size_t{92 + 99},
                                 whole.size() / 2, whole.size() - 20})
    CHECK(opens_with(whole.substr(0, size)) == ErrorCode::Truncated);
  const auto with = [](RecordBytes record) {
    return opens_with(
        record_container({{.name = "BOOT", .data = boot_image()}, std::move(record)}));
  };
  CHECK(with({.name = "X", .data = "abc", .header_size = 97}) == ErrorCode::BadValue);
  CHECK(with({.name = "X", .data = "abc", .header_size = 0xFFFFFFFF}) == ErrorCode::BadValue);
  CHECK(with({.name = "X", .data = "abc", .data_size = 0xFFFFFFF0}) == ErrorCode::Truncated);
  CHECK(with({.name = "X", .data = noise(9000), .header_size = 100}) == ErrorCode::BadValue);
  CHECK(with({.name = "../../etc/x", .data = "abc"}) == ErrorCode::UnsafePath);
  std::string other = whole;
  other.resize(other.size() + 8, 'x');
  CHECK(opens_with(other) == ErrorCode::Corrupt);
  CHECK(open(whole + std::string(512, '\0')));
}

TEST_CASE("crc-16: the kinds by the sum of their check text") {
  const std::string text = "123456789";
  const std::map<std::string_view, unsigned> known{
      {"x-25", 0x906E},     {"mcrf4xx", 0x6F91}, {"kermit", 0x2189},
      {"arc", 0xBB3D},      {"modbus", 0x4B37},  {"usb", 0xB4C8},
      {"ibm-3740", 0x29B1}, {"genibus", 0xD64E}, {"xmodem", 0x31C3}};
  CHECK(crc16_kinds().size() == known.size());
  for (const Crc16Kind& kind : crc16_kinds()) {
    CAPTURE(kind.name);
    const std::uint16_t sum = crc16_of(as_view(text), kind);
    CHECK(sum == known.at(kind.name));
    CHECK(crc16_match(as_view(text), sum)->kind == &kind);
  }
  CHECK_FALSE(crc16_match(as_view(text), 0x1234));
}

TEST_CASE("download container: files by the XML among them, else by their names") {
  const std::string xml =
      "<?xml version=\"1.0\"?><BMAConfig><ProductList><Product><SchemeName>x</SchemeName>"
      "<File><ID>BOOT</ID><Type>YAFFS_IMG2</Type><Block id=\"boot\"><Base>0x0</Base></Block>"
      "</File><File><ID>VBM</ID><Block "
      "id=\"vbmeta_a\"/></File></Product></ProductList></BMAConfig>";
  const DownloadBytes bytes{.files = {{"", "config.xml", xml},
                                      {"FDL", "fdl1-sign.bin", noise(600, 4)},
                                      {"BOOT", "7.dat", boot_image()},
                                      {"DTBO", "dtbo-sign.img", noise(700, 5)},
                                      {"ERASE", "", ""}}};
  for (const std::string& whole : {bytes.done(), zip({{"x/firmware.pac", bytes.done(), true}})}) {
    const auto firmware = open(whole, "x.pac");
    REQUIRE(firmware);
    CHECK(content(**firmware, "boot").value() == boot_image());
    CHECK(content(**firmware, "dtbo").value() == noise(700, 5));
    CHECK(content(**firmware, "fdl1").value() == noise(600, 4));
    CHECK((*firmware)->build.incremental == "KT2-1.0");
    CHECK((*firmware)->notes.empty());
  }
  const DownloadBytes plain{.files = {{"B", "boot-sign.img", boot_image()}}};
  CHECK(content(**open(plain.done()), "boot").value() == boot_image());
}

TEST_CASE("download container: damage, lying offsets and counts, names with paths") {
  const DownloadBytes good{.files = {{"B", "boot.img", boot_image()}}};
  const std::string whole = good.done();
  for (const std::size_t size :
       {std::size_t{2124}, std::size_t{3000}, whole.size() - 1, std::size_t{4704}})
    CHECK(opens_with(whole.substr(0, size)) == ErrorCode::Truncated);
  const auto with = [](const DownloadBytes& bytes) { return opens_with(bytes.done()); };
  CHECK(with({.files = good.files, .count = 5000}) == ErrorCode::LimitExceeded);
  CHECK(with({.files = good.files, .count = 900}) == ErrorCode::BadValue);
  CHECK(with({.files = good.files, .list = 0xFFFFFF00}) == ErrorCode::Truncated);
  CHECK(with({.files = {{"B", "boot.img", "x", 2576}}}) == ErrorCode::BadValue);
  CHECK(with({.files = {{"B", "boot.img", "x", {}, std::uint64_t{1} << 40}}}) ==
        ErrorCode::Truncated);
  CHECK(with({.files = {{"B", "boot.img", "x", {}, {}, ~std::uint64_t{0}}}}) ==
        ErrorCode::Truncated);
  // Within the file's size, yet not behind its own place.
  CHECK(with({.files = {{"B", "boot.img", "x", {}, {}, 2600}}}) == ErrorCode::Truncated);
  CHECK(with({.files = {{"B", "../../boot.img", boot_image()}}}) == ErrorCode::UnsafePath);
  const auto warned = open(DownloadBytes{.files = good.files, .header_crc = 0x1234}.done());
  REQUIRE(warned);
  CHECK((*warned)->notes.at(0).id.code == FindingCode::ContainerSum);
}

TEST_CASE("named: what is known by its first bytes is told, before an image is looked for in it") {
  struct Row {
    std::string bytes;
    const char* kind;
    NamedSort sort;
  };
  const std::string zeros(4096, '\0');
  const Row rows[] = {
      {"RKFW" + zeros, "tablet-update", NamedSort::Container},
      {"RKAF" + zeros, "tablet-update", NamedSort::Container},
      {"IMAGEWTY" + zeros, "tablet-image", NamedSort::Container},
      {std::string(8, 'v') + "\x56\x19\xB5\x27" + zeros, "burning-image", NamedSort::Container},
      {std::string("\x28\x05\0\0\1\2\3\x25", 8) + zeros, "chunked", NamedSort::Container},
      {"\x74\x18\x96\x32" + zeros, "chunked", NamedSort::Container},
      {"\x4F\x50\x50\x4F\x45\x4E\x43\x52\x59\x50\x54\x21" + zeros, "encrypted-zip",
       NamedSort::Encrypted},
      {"\x48\x74\x63\x40\x65\x67\x69\x24" + zeros, "encrypted-zip", NamedSort::Encrypted},
      {noise(4096 + 16) + le32(0x7CEF) + std::string(492, 'x') + noise(3584), "",
       NamedSort::Encrypted},
      {noise(8192) + std::string(16, 'y') + le32(0x7CEF) + noise(4076), "encrypted-list",
       NamedSort::Encrypted},
      {"\3SIN" + zeros, "signed-image", NamedSort::Container},
      {"-SIGNED-BY-SIGNBLOB-" + zeros, "signed-blob", NamedSort::Container},
      {"\xFF\xD8\xFF\xE0" + zeros, "jpeg", NamedSort::NotFirmware},
      {"%PDF-1.7" + zeros, "pdf", NamedSort::NotFirmware},
      {"\n<!DOCTYPE html><html>" + zeros, "html", NamedSort::NotFirmware},
      {"<html lang=en>" + zeros, "html", NamedSort::NotFirmware},
      {"Read this before you flash boot.img.\n", "text", NamedSort::NotFirmware},
  };
  for (const Row& row : rows) {
    if (*row.kind == 0) continue;
    CAPTURE(row.kind);
    // A boot image further in does not make it one.
    const bool room = row.bytes.size() >= 4096 && row.sort != NamedSort::Encrypted;
    const std::string bytes = room ? row.bytes.substr(0, 2048) + boot_image() : row.bytes;
    const auto found = named_kind(*open_memory(blob(bytes), "x"), as_view(bytes));
    REQUIRE(found);
    REQUIRE(*found != nullptr);
    CHECK((*found)->kind == row.kind);
    CHECK((*found)->sort == row.sort);
    CHECK(opens_with(bytes) ==
          (row.sort == NamedSort::NotFirmware ? ErrorCode::BadMagic : ErrorCode::Unsupported));
  }
  CHECK(opens_with("") == ErrorCode::BadMagic);
  // An app is a zip, and no firmware for the images that it may carry.
  CHECK(opens_with(zip({{"AndroidManifest.xml", "x"},
                        {"classes.dex", "x"},
                        {"assets/data.bin", noise(900)}})) == ErrorCode::BadMagic);
}

TEST_CASE("named: a container that is not read hides nothing beside it") {
  const auto firmware =
      open(zip({{"boot.img", boot_image()}, {"update.img", "RKFW" + noise(5000)}}));
  REQUIRE(firmware);
  CHECK(content(**firmware, "boot"));
  CHECK(content(**firmware, "update").error().code == ErrorCode::Unsupported);
  // With nothing beside it, it is what is told.
  CHECK(opens_with(zip({{"firmware.zip", "\x4F\x50\x50\x4F\x45\x4E\x43\x52\x59\x50\x54\x21" +
                                             noise(5000)}})) == ErrorCode::Unsupported);
}

TEST_CASE("zip: lzma members, and something before the first entry") {
  const std::string boot = boot_image();
  const auto packed = open(zip({{"boot.img", boot, false, false, "", true}}));
  REQUIRE(packed);
  CHECK(content(**packed, "boot").value() == boot);
  const std::string inner = zip({{"boot.img", boot}}), stub = "MZ" + noise(5000);
  for (const std::string& whole : {stub + inner, zip({{"setup.zip", stub + inner}})}) {
    const auto firmware = open(whole, "setup.exe");
    REQUIRE(firmware);
    CHECK(content(**firmware, "boot").value() == boot);
  }
  // The mark of a zip's end in its own comment is none.
  const std::string comment = "PK\5\6" + std::string(40, '\xff');
  const auto commented =
      open(stub + inner.substr(0, inner.size() - 2) + le16(44) + comment, "setup.exe");
  REQUIRE(commented);
  CHECK(content(**commented, "boot").value() == boot);
  CHECK(opens_with(stub) == ErrorCode::BadMagic);
  CHECK(opens_with(stub + inner.substr(0, inner.size() / 2)) == ErrorCode::BadMagic);
}

TEST_CASE("packings: frames of zstd and lz4 one behind the other are one image") {
  const std::string boot = boot_image();
  const std::string a = boot.substr(0, 3000), b = boot.substr(3000);
  for (const auto& [name, bytes] : {std::pair{"boot.img.zst", zstd(a) + zstd(b)},
                                    std::pair{"boot.img.lz4", lz4_frame(a) + lz4_frame(b)}}) {
    const auto firmware = open(bytes, name);
    REQUIRE(firmware);
    CHECK(content(**firmware, "boot").value() == boot);
  }
}
