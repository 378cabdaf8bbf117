#include "target.hpp"

namespace wexlo::fuzz {

const std::vector<Target>& targets() {
  static const std::vector<Target> all{
      {"image", image, image_seeds},
      {"device_tree", device_tree, device_tree_seeds},
      {"kernel", kernel, kernel_seeds},
      {"vbmeta", vbmeta, vbmeta_seeds},
      {"newc", newc, newc_seeds},
      {"ramdisk", ramdisk, ramdisk_seeds},
      {"codec", codec, codec_seeds},
      {"payload", payload, payload_seeds},
      {"zip", zip, zip_seeds},
      {"tree_list", tree_list, tree_list_seeds},
      {"recipe", recipe, recipe_seeds},
      {"text_files", text_files, text_files_seeds},
      {"patch", patch, patch_seeds},
      {"restore", restore, restore_seeds},
      {"difference", difference, difference_seeds},
      {"container", container, container_seeds},
      {"patches", patches, patches_seeds},
      {"listing", listing, listing_seeds},
      {"chain", chain, chain_seeds},
      {"judge", judge, judge_seeds},
      {"sheet", sheet, sheet_seeds},
      {"relisting", relisting, relisting_seeds},
      {"insertion", insertion, insertion_seeds},
      {"plan", plan, plan_seeds},
      {"manifest", manifest, manifest_seeds},
      {"phone_state", phone_state, phone_state_seeds},
      {"super_tables", super_tables, super_tables_seeds},
      {"flash_log", flash_log, flash_log_seeds},
      {"bootloader", bootloader, bootloader_seeds},
      {"reply", reply, reply_seeds},
      {"observed", observed, observed_seeds},
      {"record", record, record_seeds},
  };
  return all;
}

}  // namespace wexlo::fuzz
