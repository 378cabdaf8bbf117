#pragma once
/// A kit's own record of how it was made, written into it and read from an older one: the same
/// recipes and settings can be applied to a new build without the files they once came from.

#include <filesystem>
#include <map>

#include "kit/facts/chain_facts.hpp"
#include "kit/folder/kit_folder.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {

/// One recipe inside a kit.
struct KitRecipe {
  std::string name, file, sha256;
  Settings given;
  struct File {
    std::string spelled;  ///< as the recipe has it
    std::string path;     ///< below a folder that it puts in; else empty
    std::string file, sha256;
  };
  std::vector<File> files;
};

/// Writes the recipes and all files they bring along below `recipes` in the kit.
[[nodiscard]] Result<std::vector<KitRecipe>> write_recipes(KitFolder& folder,
                                                           const std::vector<Recipe>& recipes);

struct OldKit {
  std::string device, build;
  std::vector<Recipe> recipes;
  std::vector<ImageFacts> facts;
  std::vector<std::string> partitions;       ///< that it wrote
  std::map<std::string, std::string> stock;  ///< SHA-256 of its stock images, by partition
  bool gave = false;                         ///< images or packages were brought along then
  std::string slots;                         ///< as told then: "current", "both", "auto"
  bool wipe = false;
  std::string architecture;  ///< told by the user then; empty: read from the image
};
/// @param settings  of the recipes' parameters, in the place of what was given when it was made
/// Errors: BadMagic (no kit), BadValue, DigestMismatch (a file of it was changed), Unsupported (it
/// records no recipes), Usage (a setting that no recipe has), those of reading recipes.
[[nodiscard]] Result<OldKit> read_old_kit(const std::filesystem::path& folder,
                                          const Settings& settings = {});

}  // namespace wexlo
