#pragma once
/// What a person should know of a patched image.

#include <map>

#include "kit/facts/kit_image.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {

/// An edit that replaces what starts first and that was left out everywhere: `no-start-edit`.
/// @param reports  one list for each image, all in the recipes' order
void judge_start_edits(const std::vector<Recipe>& recipes,
                       const std::vector<std::vector<EditReport>>& reports,
                       std::vector<Finding>& out);

/// Lowered protections, conflicts of edits, where the way back is, sizes that are not known.
/// @param stock  images of the firmware, by partition  @param signs  an owner's key signs it again
void tell_of_patch(const KitImage& image, const std::map<std::string, LoadedImage>& stock,
                   bool signs, std::vector<Finding>& out);

}  // namespace wexlo
