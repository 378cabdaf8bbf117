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

}  // namespace wexlo::fuzz
