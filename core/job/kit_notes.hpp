#pragma once
/// What has to be told of a patched image.

#include "job/prepare.hpp"

namespace wexlo {

/// Lowered protections, conflicts of edits, where the way back is, sizes that nobody knows.
/// @param stock  images of the firmware, by partition  @param signs  an owner's key signs it again
void tell_of_patch(const PreparedImage& image, const std::map<std::string, LoadedImage>& stock,
                   bool signs, std::vector<Finding>& out);

}  // namespace wexlo
