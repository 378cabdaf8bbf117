#include "firmware/super.hpp"

#include "support/check.hpp"
#include "support/containers.hpp"
#include "support/rounds.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Result<FirmwarePtr> open(const std::string& bytes) {
  return open_super(open_memory(blob(bytes), "super.img"), {});
}

std::string content(const Firmware& firmware, std::string_view name) {
  return text(read_partition(*firmware.find(name), 1u << 20, {})->view());
}

/// system in two extents with zeros between, vendor in one.
SuperBytes usual_super() {
  SuperBytes out;
  out.partitions = {
      {"system", {{16, 200}, {8, 0, 1}, {8, 300}}}, {"vendor", {{8, 400}}}, {"product", {}}};
  return out;
}

std::string filled(const SuperBytes& of) {
  std::string bytes = of.done();
  for (std::size_t at = 100 * 512; at < bytes.size(); ++at)
    bytes[at] = static_cast<char>(at / 512);
  return bytes;
}

}  // namespace

TEST_CASE("super: partitions are put together from their extents, in each version of the tables") {
  for (const unsigned minor : {0u, 1u, 2u}) {
    SuperBytes of = usual_super();
    of.minor = minor;
    const std::string bytes = filled(of);
    const auto firmware = open(bytes);
    REQUIRE(firmware);
    CHECK(content(**firmware, "system") == bytes.substr(200 * 512, 16 * 512) +
                                               std::string(8 * 512, '\0') +
                                               bytes.substr(300 * 512, 8 * 512));
    CHECK(content(**firmware, "vendor") == bytes.substr(400 * 512, 8 * 512));
    CHECK((*firmware)->find("product")->size == 0);
    CHECK((*firmware)->groups.at(0).partitions.size() == 3);
    CHECK((*firmware)->notes.empty());
  }
}

TEST_CASE("super: a bad primary copy gives way to its backup, and that is said") {
  const std::string good = filled(usual_super());
  const auto spoiled = [&](std::initializer_list<std::size_t> places) {
    std::string bytes = good;
    for (const std::size_t at : places)
      bytes[at] = static_cast<char>(bytes[at] ^ 1);
    return open(bytes);
  };
  const auto geometry = spoiled({4096 + 45});
  REQUIRE(geometry);
  CHECK((*geometry)->notes.at(0).id.code == FindingCode::SuperGeometryBackup);
  CHECK(content(**geometry, "vendor") == good.substr(400 * 512, 8 * 512));
  const std::size_t tables = 12288 + 128, size = 4096;
  const auto metadata = spoiled({tables});
  REQUIRE(metadata);
  CHECK((*metadata)->notes.at(0).message.find("backup for slot _a") != std::string::npos);
  const auto slot = spoiled({tables, tables + 2 * size});
  REQUIRE(slot);
  CHECK((*slot)->notes.at(0).message.find("primary copy for slot _b") != std::string::npos);
  const auto none = spoiled({tables, tables + size, tables + 2 * size, tables + 3 * size});
  REQUIRE_FALSE(none);
  CHECK(none.error().code == ErrorCode::Corrupt);
  CHECK(spoiled({4096 + 45, 8192 + 45}).error().code == ErrorCode::Corrupt);
}

TEST_CASE("super: the header's sum covers all of the header") {
  SuperBytes of = usual_super();
  of.minor = 2;  // its header is 256 bytes long
  std::string bytes = filled(of);
  REQUIRE(open(bytes));
  for (std::size_t copy = 0; copy < 4; ++copy)
    bytes[12288 + copy * 4096 + 200] ^= 1;
  const auto bad = open(bytes);
  REQUIRE_FALSE(bad);
  CHECK(bad.error().message.contains("header's checksum"));
}

TEST_CASE("super: extents outside, overlapping, or of tables that lie") {
  SuperBytes of = usual_super();
  of.partitions[1].extents[0].at = 210;
  CHECK(open(filled(of)).error().message.find("overlap") != std::string::npos);
  of = usual_super();
  of.partitions[1].extents[0].type = 7;
  CHECK(open(filled(of)).error().code == ErrorCode::Corrupt);
  of = usual_super();
  of.partitions[1].extents[0] = {~std::uint64_t{0}, 4};
  CHECK(open(filled(of)).error().code == ErrorCode::Corrupt);
  of = usual_super();
  of.partitions[1].extents[0].device = 3;
  CHECK(open(filled(of)).error().code == ErrorCode::Corrupt);
  of = usual_super();
  of.partitions[1].name = "../vendor";
  CHECK(open(filled(of)).error().code == ErrorCode::UnsafePath);
  // Outside the file: the others are there all the same.
  of = usual_super();
  of.partitions[1].extents[0].at = 1u << 20;
  const auto firmware = open(filled(of));
  REQUIRE(firmware);
  CHECK(content(**firmware, "system").size() == 32 * 512);
  CHECK(read_partition(*(*firmware)->find("vendor"), 1u << 20, {}).error().code ==
        ErrorCode::OutOfRange);
}

TEST_CASE("super: names with slot suffixes, tables alone, further block devices") {
  SuperBytes of = usual_super();
  of.partitions[1].attributes = 3;
  CHECK((*open(filled(of)))->find("vendor_a") != nullptr);
  const auto empty =
      open_empty_super(open_memory(blob(usual_super().empty()), "super_empty.img"), {});
  REQUIRE(empty);
  CHECK((*empty)->kind == "super-empty");
  CHECK(
      read_partition(*(*empty)->find("vendor"), 1u << 20, {}).error().message.find("tables only") !=
      std::string::npos);
  of = usual_super();
  of.devices = {"super", "cust"};
  of.partitions[1].extents[0].device = 1;
  of.partitions[1].extents[0].at = 0;
  const SourcePtr super = open_memory(blob(filled(of)), "super.img");
  CHECK(read_partition(*(*open_super(super, {}))->find("vendor"), 1u << 20, {}).error().code ==
        ErrorCode::NotFound);
  const std::string beside = noise(8 * 512);
  const auto both = open_super_with(super, [&](const std::string& name) -> Result<SourcePtr> {
    CHECK(name == "cust");
    return open_memory(blob(beside), "cust.img");
  });
  CHECK(content(**both, "vendor") == beside);
}

TEST_CASE("super: every flipped byte of geometry and tables is seen, or changes nothing") {
  const std::string good = filled(usual_super());
  for (std::size_t at = 4096; at < 12288 + 4 * 4096; at += apart(7)) {
    std::string bytes = good;
    bytes[at] = static_cast<char>(bytes[at] ^ 0x10);
    const auto firmware = open(bytes);
    REQUIRE(firmware);  // one copy of each is still good
    CHECK(content(**firmware, "vendor") == good.substr(400 * 512, 8 * 512));
  }
}

TEST_CASE("super: extents that touch are apart, those that share one sector are not") {
  // system has sectors 200 to 215; vendor takes eight.
  for (const auto& [at, apart] :
       {std::pair{191, true}, {192, true}, {193, false}, {215, false}, {216, true}}) {
    CAPTURE(at);
    SuperBytes of = usual_super();
    of.partitions[1].extents[0].at = static_cast<std::uint64_t>(at);
    const auto firmware = open(filled(of));
    CHECK(firmware.has_value() == apart);
    if (!firmware) CHECK(firmware.error().message.contains("overlap"));
  }
}

TEST_CASE(
    "super: tables of another major version, of broken sectors or with a wrong sum are refused") {
  SuperBytes newer = usual_super();
  newer.major = 11;
  CHECK(open(filled(newer)).error().code == ErrorCode::Unsupported);
  SuperBytes older = usual_super();
  older.major = 9;
  CHECK_FALSE(open(filled(older)));
  SuperBytes broken = usual_super();
  broken.metadata_size = 4096 + 100;
  CHECK_FALSE(open(filled(broken)));
}
