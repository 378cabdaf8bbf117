#include "firmware/super_write.hpp"

#include <algorithm>
#include <random>

#include "firmware/super.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

constexpr std::size_t kSector = 512;

/// system in two extents, vendor between them; sectors from 512 on are free.
SuperBytes split_super() {
  SuperBytes out;
  out.partitions = {{"system", {{16, 200}, {8, 300}}}, {"vendor", {{8, 400}}}, {"product", {}}};
  return out;
}

std::string numbered(const SuperBytes& of) {
  std::string bytes = of.done();
  for (std::size_t at = 100 * kSector; at < bytes.size(); ++at)
    bytes[at] = static_cast<char>(at / kSector * 7 + 1);
  return bytes;
}

std::string rewritten(const std::string& super, const std::vector<LogicalImage>& images) {
  const RewrittenSuper out = value_of(rewrite_super(source_of(super), images));
  return text(value_of(read_all(*out.source, 1u << 30)).view());
}

std::string content(const std::string& super, std::string_view name) {
  const FirmwarePtr firmware = value_of(open_super(source_of(super), {}));
  const PartitionFacts* one = firmware->find(name);
  REQUIRE(one != nullptr);
  if (one->size == 0) return {};
  return text(value_of(read_partition(*one, 1u << 24, {})).view());
}

/// No copy of any table may be bad.
void check_sound(const std::string& super) {
  const auto troubles = super_troubles(*source_of(super));
  CAPTURE(troubles.empty() ? std::string() : troubles.front());
  CHECK(troubles.empty());
  const FirmwarePtr firmware = value_of(open_super(source_of(super), {}));
  CHECK(firmware->notes.empty());
}

}  // namespace

TEST_CASE("super writing: an image of the same size: only its own bytes change") {
  for (const unsigned minor : {0u, 1u, 2u}) {
    SuperBytes of = split_super();
    of.minor = minor;
    const std::string before = numbered(of), image = noise(24 * kSector, 3);
    const std::string after = rewritten(before, {{"system", source_of(image)}});
    CHECK(content(after, "system") == image);
    CHECK(content(after, "vendor") == content(before, "vendor"));
    REQUIRE(after.size() == before.size());
    std::string wanted = before;
    wanted.replace(200 * kSector, 16 * kSector, image.substr(0, 16 * kSector));
    wanted.replace(300 * kSector, 8 * kSector, image.substr(16 * kSector));
    CHECK(after == wanted);
    check_sound(after);
  }
}

TEST_CASE("super writing: growing takes its own room first, then what is free; others stay") {
  const std::string before = numbered(split_super()), image = noise(104 * kSector, 4);
  const std::string after = rewritten(before, {{"system", source_of(image)}});
  CHECK(content(after, "system") == image);
  CHECK(content(after, "vendor") == content(before, "vendor"));
  CHECK(content(after, "product").empty());
  check_sound(after);
  CHECK(after.substr(200 * kSector, 16 * kSector) == image.substr(0, 16 * kSector));
}

TEST_CASE("super writing: what lacks to a whole block is zeros") {
  const std::string image = noise(9 * kSector + 5, 4);
  const std::string after = rewritten(numbered(split_super()), {{"product", source_of(image)}});
  CHECK(content(after, "product") == padded(image, 4096));
  check_sound(after);
}

TEST_CASE("super writing: shrinking gives room back, and what was there is zeros") {
  const std::string before = numbered(split_super()), image = noise(8 * kSector, 5);
  const std::string after = rewritten(before, {{"system", source_of(image)}});
  CHECK(content(after, "system") == image);
  CHECK(after.substr(300 * kSector, 8 * kSector) == std::string(8 * kSector, '\0'));
  check_sound(after);
}

TEST_CASE("super writing: nothing at all empties a partition, and its room serves another") {
  const std::string before = numbered(split_super()), image = noise(40 * kSector, 6);
  const std::string after =
      rewritten(before, {{"system", source_of("")}, {"product", source_of(image)}});
  CHECK(content(after, "system").empty());
  CHECK(content(after, "product") == image);
  check_sound(after);
}

TEST_CASE("super writing: two partitions at once do not take each other's room") {
  const std::string before = numbered(split_super());
  const std::string system = noise(64 * kSector, 7), vendor = noise(56 * kSector, 8);
  const std::string after =
      rewritten(before, {{"system", source_of(system)}, {"vendor", source_of(vendor)}});
  CHECK(content(after, "system") == system);
  CHECK(content(after, "vendor") == vendor);
  check_sound(after);
}

TEST_CASE("super writing: what does not fit is refused, with how much is wanting") {
  const std::string before = numbered(split_super());
  const auto got =
      rewrite_super(source_of(before), {{"system", source_of(std::string(2u << 20, 'x'))}});
  REQUIRE_FALSE(got);
  CHECK(got.error().code == ErrorCode::DoesNotFit);
  CHECK(got.error().file == "x.img");
  CHECK_FALSE(got.error().expected.empty());
  CHECK(got.error().found.find("too few") != std::string::npos);
  CHECK(rewrite_super(source_of(before), {{"odm", source_of("x")}}).error().code ==
        ErrorCode::NotFound);
}

TEST_CASE("super writing: partitions on another block device are left alone") {
  SuperBytes of = split_super();
  of.devices = {"super", "vendor_disk"};
  of.partitions[1].extents = {{8, 4, 0, 1}};
  const std::string before = numbered(of);
  CHECK(rewrite_super(source_of(before), {{"vendor", source_of("x")}}).error().code ==
        ErrorCode::Unsupported);
  const std::string image = noise(32 * kSector, 2);
  CHECK(content(rewritten(before, {{"system", source_of(image)}}), "system") == image);
}

TEST_CASE("super writing: a bad primary copy does not stand in the way, and is repaired") {
  std::string before = numbered(split_super());
  before[12288 + 40] ^= 1;  // the first slot's primary header
  const std::string image = noise(24 * kSector, 3);
  const std::string after = rewritten(before, {{"system", source_of(image)}});
  CHECK(content(after, "system") == image);
  check_sound(after);
}

TEST_CASE("super writing: the given ranges are the tables and all that partitions have") {
  const std::string before = numbered(split_super()), image = noise(24 * kSector, 3);
  const RewrittenSuper out =
      value_of(rewrite_super(source_of(before), {{"system", source_of(image)}}));
  const auto holds = [&](std::uint64_t sector) {
    return std::ranges::any_of(out.given, [&](const ByteRange& one) {
      return one.begin <= sector * kSector && sector * kSector < one.end;
    });
  };
  CHECK(holds(0));
  CHECK(holds(24));
  CHECK(holds(200));
  CHECK(holds(307));
  CHECK(holds(400));
  CHECK_FALSE(holds(250));
  CHECK_FALSE(holds(500));
  CHECK(std::ranges::is_sorted(out.given, {}, &ByteRange::begin));
}

TEST_CASE(
    "super writing: any partitions, any new sizes: sound tables, and everybody keeps their bytes") {
  Random random(21);
  int done = 0;
  for (int round = 0; round < 150; ++round) {
    SuperBytes of;
    of.minor = random() % 3;
    of.slots = 1 + random() % 3;
    std::uint64_t at = 200 + random() % 8 * 8;
    const unsigned count = 1 + random() % 5;
    for (unsigned i = 0; i < count; ++i) {
      SuperPartition one{.name = "part" + std::to_string(i), .extents = {}};
      for (unsigned e = 0; e < random() % 4; ++e) {
        const std::uint64_t size = 8 + random() % 10 * 8;
        one.extents.push_back({size, at});
        at += size + random() % 5 * 8;
      }
      of.partitions.push_back(one);
    }
    of.size = (at + 400) * kSector;
    const std::string before = numbered(of);
    std::vector<LogicalImage> images;
    std::vector<std::string> wanted(count);
    std::vector<bool> replaced(count);
    for (unsigned i = 0; i < count; ++i) {
      replaced[i] = random() % 2 == 0;
      wanted[i] = replaced[i] ? noise(random() % 40 * 8 * kSector, random())
                              : content(before, "part" + std::to_string(i));
      if (replaced[i]) images.push_back({"part" + std::to_string(i), source_of(wanted[i])});
    }
    if (images.empty()) continue;
    CAPTURE(round);
    const auto out = rewrite_super(source_of(before), images);
    if (!out) {
      CHECK(out.error().code == ErrorCode::DoesNotFit);
      continue;
    }
    ++done;
    const std::string after = text(value_of(read_all(*out->source, 1u << 30)).view());
    for (unsigned i = 0; i < count; ++i)
      CHECK(content(after, "part" + std::to_string(i)) == wanted[i]);
    check_sound(after);
  }
  CHECK(done > 80);
}

TEST_CASE("super writing: primary and backup of every slot's tables are the same") {
  SuperBytes of = split_super();
  of.slots = 3;
  const std::string before = numbered(of);
  const std::string after = rewritten(before, {{"system", source_of(noise(32 * kSector, 3))}});
  const std::size_t first = 12288, size = of.metadata_size;
  CHECK(after.substr(4096, 4096) == after.substr(8192, 4096));
  for (std::size_t slot = 0; slot < 3; ++slot) {
    CAPTURE(slot);
    const std::string primary = after.substr(first + slot * size, size);
    CHECK(primary == after.substr(first + (3 + slot) * size, size));
    CHECK(primary != before.substr(first + slot * size, size));
    CHECK(primary == after.substr(first, size));
  }
  check_sound(after);
}

TEST_CASE(
    "super writing: a group's limit binds, though super has room, and just what it allows is "
    "taken") {
  SuperBytes of = split_super();
  of.group_limit = 40 * kSector;  // system has 24 sectors, vendor 8
  const std::string before = numbered(of);
  const auto grown = [&](std::size_t sectors) {
    return rewrite_super(source_of(before), {{"system", source_of(noise(sectors * kSector, 3))}});
  };
  CHECK(grown(32));
  const auto refused = grown(33);
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::DoesNotFit);
}

TEST_CASE("super writing: where two partitions share a sector, each gets room of its own") {
  SuperBytes of = split_super();
  of.partitions[0].extents = {{16, 200}};
  of.partitions[1].extents = {{8, 215}};  // system's last sector is vendor's first
  const std::string system = noise(16 * kSector, 1), vendor = noise(8 * kSector, 2);
  const std::string after =
      rewritten(numbered(of), {{"system", source_of(system)}, {"vendor", source_of(vendor)}});
  CHECK(content(after, "system") == system);
  CHECK(content(after, "vendor") == vendor);
  check_sound(after);
}

TEST_CASE("super writing: tables of a newer minor version are read and not written") {
  SuperBytes of = split_super();
  of.minor = 3;
  const std::string before = numbered(of);
  CHECK(open_super(source_of(before), {}));
  CHECK(rewrite_super(source_of(before), {{"system", source_of("x")}}).error().code ==
        ErrorCode::Unsupported);
}

TEST_CASE("super writing: a name that takes its slot's suffix is found by the whole name") {
  SuperBytes of = split_super();
  of.partitions[0].attributes = 3;
  const std::string before = numbered(of), image = noise(32 * kSector, 3);
  const std::string after = rewritten(before, {{"system_a", source_of(image)}});
  CHECK(content(after, "system_a") == image);
  CHECK(rewrite_super(source_of(before), {{"system", source_of(image)}}).error().code ==
        ErrorCode::NotFound);
  // The other slot's tables, in which it is system_b, stay as they were.
  const std::size_t first = 12288, size = of.metadata_size;
  CHECK(after.substr(first, size) != before.substr(first, size));
  CHECK(after.substr(first + size, size) == before.substr(first + size, size));
}
