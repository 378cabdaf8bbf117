#pragma once
/// What a person should know of a patched image.

#include <map>

#include "kit/facts/kit_image.hpp"

namespace wexlo {

/// Lowered protections, conflicts of edits, where the way back is, sizes that are not known.
/// @param stock  images of the firmware, by partition  @param signs  an owner's key signs it again
void tell_of_patch(const KitImage& image, const std::map<std::string, LoadedImage>& stock,
                   bool signs, std::vector<Finding>& out);

}  // namespace wexlo
