#include "firmware/gpt.hpp"

#include "support/check.hpp"
#include "support/containers.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Result<FirmwarePtr> open(const std::string& bytes) {
  return open_gpt(open_memory(blob(bytes), "disk.bin"), {});
}

std::string dump(std::size_t sector) {
  const std::uint64_t first = sector == 512 ? 100 : 10;
  std::string out = gpt_dump({{"boot_a", first, first + 7}, {"boot_b", first + 8, first + 15}},
                             sector, sector == 512 ? 400 : 60);
  const std::string boot = noise(8 * sector);
  return out.replace(first * sector, boot.size(), boot);
}

}  // namespace

TEST_CASE("gpt: partitions of small and large sectors, the last sector included") {
  for (const std::size_t sector : {std::size_t{512}, std::size_t{4096}}) {
    const std::string bytes = dump(sector);
    CHECK(looks_like_gpt(blob(bytes)));
    const auto firmware = open(bytes);
    REQUIRE(firmware);
    REQUIRE((*firmware)->partitions.size() == 2);
    CHECK((*firmware)->find("boot_a")->size == 8 * sector);
    CHECK(text(read_partition(*(*firmware)->find("boot_a"), 1u << 20, {})->view()) ==
          noise(8 * sector));
    CHECK((*firmware)->choose("boot", "disk.bin").error().code == ErrorCode::Ambiguous);
  }
}

TEST_CASE("gpt: the backup steps in for a bad primary, and that is said") {
  for (const std::size_t sector : {std::size_t{512}, std::size_t{4096}})
    for (const std::size_t at : {sector + 40, 2 * sector + 3}) {
      std::string bytes = dump(sector);
      bytes[at] = static_cast<char>(bytes[at] ^ 1);
      const auto firmware = open(bytes);
      REQUIRE(firmware);
      CHECK((*firmware)->notes.at(0).id.code == FindingCode::GptBackup);
      CHECK(read_partition(*(*firmware)->find("boot_a"), 1u << 20, {}));
      bytes[bytes.size() - sector + 30] ^= 1;
      CHECK(open(bytes).error().code == ErrorCode::Corrupt);
    }
}

TEST_CASE("gpt: a cut dump lists all and reads what is there") {
  const std::string bytes = dump(512);
  const auto firmware = open(bytes.substr(0, 110 * 512));
  REQUIRE(firmware);
  CHECK((*firmware)->notes.at(0).id.code == FindingCode::GptCut);
  CHECK(read_partition(*(*firmware)->find("boot_a"), 1u << 20, {}));
  CHECK(read_partition(*(*firmware)->find("boot_b"), 1u << 20, {}).error().code ==
        ErrorCode::Truncated);
}

TEST_CASE("gpt: names that are none, twice the same, ends before beginnings") {
  const auto firmware =
      open(gpt_dump({{"", 50, 51}, {"a/b", 52, 53}, {"twin", 54, 54}, {"twin", 55, 55}}, 512, 200));
  REQUIRE(firmware);
  for (const char* name : {"partition1", "a_b", "twin", "twin.4"})
    CHECK((*firmware)->find(name) != nullptr);
  CHECK(open(gpt_dump({{"x", 60, 59}}, 512, 200)).error().code == ErrorCode::Corrupt);
  CHECK(open(gpt_dump({{"x", 60, ~std::uint64_t{0}}}, 512, 200)).error().code ==
        ErrorCode::Corrupt);
}

TEST_CASE("gpt: the logical partitions of a super on the disk are there, too") {
  SuperBytes super;
  super.size = 300 * 512;
  super.partitions = {{"system_a", {{8, 200}}}};
  std::string image = super.done();
  image.replace(200 * 512, 4096, noise(4096, 3));
  std::string bytes = gpt_dump({{"super", 100, 399}}, 512, 600);
  bytes.replace(100 * 512, image.size(), image);
  const auto firmware = open(bytes);
  REQUIRE(firmware);
  const auto system = (*firmware)->choose("system", "disk.bin");
  REQUIRE(system);
  CHECK((*system)->inside == "super");
  CHECK(text(read_partition(**system, 1u << 20, {})->view()) == noise(4096, 3));
}
