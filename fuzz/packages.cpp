/// Firmware packages, recipes, and a whole patch.

#include "firmware/formats.hpp"
#include "firmware/package.hpp"
#include "firmware/payload.hpp"
#include "recipe/patch.hpp"
#include "support/boot.hpp"
#include "support/payload.hpp"
#include "support/vbmeta.hpp"
#include "target.hpp"

namespace wexlo::fuzz {
namespace {

std::string small_payload() {
  test::PayloadBytes bytes;
  bytes.block_size = 4096;
  bytes.partitions.push_back(test::partition_of("boot", test::noise(2 * 4096), 0));
  bytes.partitions.push_back(test::partition_of("vbmeta", std::string(4096, 'k'), 8));
  return bytes.done();
}

void read_all_of(const Result<FirmwarePtr>& firmware) {
  if (!firmware) return;
  for (const PartitionFacts& one : (*firmware)->partitions)
    (void)read_partition(one, 1u << 20, {});
}

}  // namespace

void payload(View input) {
  read_all_of(open_payload(open_memory(Blob(to_bytes(input)), "input"), {}));
}

std::vector<std::string> payload_seeds() {
  return {small_payload()};
}

void zip(View input) {
  read_all_of(open_zip(open_memory(Blob(to_bytes(input)), "input"), {}));
}

std::vector<std::string> zip_seeds() {
  return {test::zip({{"payload.bin", small_payload(), false},
                     {"deflated", "text text text", true},
                     {"META-INF/x", "y", false}})};
}

void recipe(View input) {
  (void)wexlo::describe_recipe(as_text(input), "input");
}

std::vector<std::string> recipe_seeds() {
  std::vector<std::string> seeds;
  for (const BundledRecipe& one : bundled_recipes())
    seeds.emplace_back(one.text);
  return seeds;
}

/// Whatever image the patch takes, its account has to close, and twice has to be once.
void patch(View input) {
  const auto loaded = load_image(Blob(to_bytes(input)), "input");
  if (!loaded || !loaded->image) return;
  Recipe put{.name = "fuzz"};
  put.edits.push_back({.kind = "put", .recipe = "fuzz"});
  put.edits.back().what =
      PutEdit{.path = "a/b", .from = {.bound = true, .files = {{"", test::blob("new")}}}};
  Context small;
  small.decode_bound = 4u << 20;
  const auto patched = wexlo::patch_image(*loaded, {"boot", true}, {put}, small);
  if (!patched) {
    must(patched.error().code != ErrorCode::Unexplained);
    return;
  }
  const auto again = load_image(patched->bytes, "again");
  must(again && again->image);
  const auto twice = wexlo::patch_image(*again, {"boot", true}, {put}, small);
  must(twice && equal(twice->bytes, patched->bytes));
}

std::vector<std::string> patch_seeds() {
  using namespace test;
  std::vector<std::string> seeds;
  for (const std::string& ramdisk :
       {first_ramdisk(), gzip(first_ramdisk()), lz4_legacy(first_ramdisk())})
    for (const unsigned version : {0u, 2u, 4u}) {
      const BootBytes b{.version = version, .page = 2048, .kernel = noise(100), .ramdisk = ramdisk};
      seeds.push_back(b.done());
      seeds.push_back(with_footer(b.done(), "boot", 1u << 15));
    }
  return seeds;
}

}  // namespace wexlo::fuzz
