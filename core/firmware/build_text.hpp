#pragma once
/// What the small text files of a package say of its build.

#include <span>

#include "firmware/firmware.hpp"
#include "firmware/script_patches.hpp"

namespace wexlo {

/// Whether a member of that name is worth reading, and reads it. Nothing in them is an error.
[[nodiscard]] bool is_build_text(std::string_view path);
struct BuildText {
  BuildFacts build;
  bool incremental = false;
  bool over_the_air = false;           ///< the package is an over-the-air one
  std::vector<ScriptPatch> patches{};  ///< images that its script patches as a whole
};
[[nodiscard]] BuildText read_build_text(std::string_view path, std::string_view text);

/// Fingerprint and patch level out of the verified-boot properties of the images, where the package
/// itself does not say them. Reads a few KiB of each.
void facts_from_images(Firmware& firmware);
/// Partitions whose images say so, in the order in which they are believed.
[[nodiscard]] std::span<const std::string_view> speaking_partitions();
/// The same out of one image that was read whole; what is known stays. Fills in the device, too.
void facts_from_image(View image, BuildFacts& build);

}  // namespace wexlo
