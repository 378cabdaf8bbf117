#pragma once
/// Fuzz targets: one a parser, each a handful of lines. A refusal is a good answer; what is
/// accepted has to come back byte for byte.

#include <cstdlib>
#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo::fuzz {

struct Target {
  const char* name;
  void (*run)(View input);  ///< aborts when a law is broken
  std::vector<std::string> (*seeds)();
};
[[nodiscard]] const std::vector<Target>& targets();

/// Stops the process, which is how a fuzzer learns of a broken law.
inline void must(bool holds) {
  if (!holds) std::abort();
}

void image(View input);
std::vector<std::string> image_seeds();
void device_tree(View input);
std::vector<std::string> device_tree_seeds();
void kernel(View input);
std::vector<std::string> kernel_seeds();
void vbmeta(View input);
std::vector<std::string> vbmeta_seeds();
void newc(View input);
std::vector<std::string> newc_seeds();
void ramdisk(View input);
std::vector<std::string> ramdisk_seeds();
void codec(View input);
std::vector<std::string> codec_seeds();
void payload(View input);
std::vector<std::string> payload_seeds();
void zip(View input);
std::vector<std::string> zip_seeds();
void tree_list(View input);
std::vector<std::string> tree_list_seeds();
void recipe(View input);
std::vector<std::string> recipe_seeds();
void text_files(View input);
std::vector<std::string> text_files_seeds();
void patch(View input);
std::vector<std::string> patch_seeds();
void restore(View input);
std::vector<std::string> restore_seeds();
void difference(View input);
std::vector<std::string> difference_seeds();
void container(View input);
std::vector<std::string> container_seeds();
void patches(View input);
std::vector<std::string> patches_seeds();
void listing(View input);
std::vector<std::string> listing_seeds();
void chain(View input);
std::vector<std::string> chain_seeds();
void judge(View input);
std::vector<std::string> judge_seeds();

void sheet(View input);
std::vector<std::string> sheet_seeds();
void relisting(View input);
std::vector<std::string> relisting_seeds();
void insertion(View input);
std::vector<std::string> insertion_seeds();
void plan(View input);
std::vector<std::string> plan_seeds();
void manifest(View input);
std::vector<std::string> manifest_seeds();
void phone_state(View input);
std::vector<std::string> phone_state_seeds();
void super_tables(View input);
std::vector<std::string> super_tables_seeds();
void flash_log(View input);
std::vector<std::string> flash_log_seeds();
void bootloader(View input);
std::vector<std::string> bootloader_seeds();
void reply(View input);
std::vector<std::string> reply_seeds();
void observed(View input);
std::vector<std::string> observed_seeds();
void record(View input);
std::vector<std::string> record_seeds();

}  // namespace wexlo::fuzz
