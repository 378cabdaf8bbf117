#pragma once
/// Patching one image, from its bytes: whose hand it shows, what the phone is, then the recipes.

#include <filesystem>

#include "judge/origin.hpp"
#include "recipe/patch.hpp"

namespace wexlo {

struct PatchOptions {
  std::string architecture{};  ///< told by the user; empty: read from the image
  bool onto_foreign = false;   ///< patch on top of another hand's patch
};

/// Is it stock, or another hand's work? `foreign` in it are the signs, where that is settled.
struct Judged {
  Origin origin;
  std::vector<std::string> foreign;
};
[[nodiscard]] Result<Judged> judge_image(const LoadedImage& image,
                                         const std::filesystem::path& path, const Context& context);

/// Refuses another hand's patch unless it is allowed, binds the recipes' files to the phone's
/// processor, and patches. Errors: ForeignPatch (with the signs), those of bind_recipes and
/// patch_image.
/// @param role  its phone is filled in from the image
[[nodiscard]] Result<Patched> patch_loaded(const LoadedImage& image, PatchRole role,
                                           std::vector<Recipe>& recipes,
                                           const PatchOptions& options,
                                           const std::filesystem::path& path,
                                           const Context& context);

}  // namespace wexlo
