#pragma once
/// The recipes that a kit carries, with the files they put in: the same edits can be made to a new
/// build without the files they once came from.

#include <filesystem>

#include "kit/folder/kit_folder.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {

/// One recipe inside a kit.
struct KitRecipe {
  std::string name, file, sha256;  ///< file: its text, below the kit's folder
  Settings given;
  struct File {
    std::string spelled;  ///< as the recipe has it
    std::string path;     ///< below a folder that it puts in; else empty
    std::string file, sha256;
    std::string named{};  ///< with what is known of the phone filled in; empty: as it is spelled
  };
  std::vector<File> files;
};

/// Writes the recipes and all files they bring along below `recipes` in the kit.
[[nodiscard]] Result<std::vector<KitRecipe>> write_recipes(KitFolder& folder,
                                                           const std::vector<Recipe>& recipes);

/// A recipe as it was, its files from the kit. @param settings  in the place of what was given then
/// Errors: DigestMismatch (a file of it was changed), UnsafePath, those of reading recipes.
[[nodiscard]] Result<Recipe> read_kept_recipe(const std::filesystem::path& kit,
                                              const KitRecipe& kept, const Settings& settings);

}  // namespace wexlo
