#pragma once
/// Patching one image, from its bytes: who changed it before, what the phone is, then the recipes.

#include <filesystem>

#include "judge/image_origin.hpp"
#include "recipe/patch.hpp"

namespace wexlo {

struct PatchOptions {
  Values told{};              ///< of the phone, by a person; what is not there is read from images
  bool onto_foreign = false;  ///< patch on top of another tool's patch
  bool allow_programs = false;  ///< recipes may run programs that they bring along
};

/// What is needed before the recipes act: refuses another tool's patch unless it is allowed, finds
/// out what the phone is and binds the recipes' files to its processor. Errors: as patch_loaded.
/// @param origin  gets what the image showed
[[nodiscard]] Result<PatchRole> ready_to_patch(const LoadedImage& image, PatchRole role,
                                               std::vector<Recipe>& recipes,
                                               const PatchOptions& options,
                                               const std::filesystem::path& path,
                                               ImageOrigin& origin, const Context& context);

/// Refuses another tool's patch unless it is allowed, binds the recipes' files to the phone's
/// processor, and patches. Errors: ForeignPatch (with the signs), those of bind_recipes and
/// patch_image.
/// @param role  its phone is filled in from the image
[[nodiscard]] Result<Patched> patch_loaded(const LoadedImage& image, PatchRole role,
                                           std::vector<Recipe>& recipes,
                                           const PatchOptions& options,
                                           const std::filesystem::path& path,
                                           const Context& context);

}  // namespace wexlo
