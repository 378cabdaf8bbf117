#pragma once
/// Recipes: the declared edits of a patch, read from TOML: docs/recipes.md.

#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "recipe/edit.hpp"
#include "recipe/mistake.hpp"
#include "recipe/values.hpp"

namespace wexlo {

struct Parameter {
  std::string name, about;
  std::optional<std::string> fallback;
  bool file = false;  ///< its value is a path: from --set against the working folder
};

/// Values given with --set.
using Settings = std::map<std::string, std::string>;

struct Recipe {
  std::string name, about;
  std::vector<std::string> shows;  ///< texts of a log that tell that what it put in runs
  std::vector<Parameter> parameters;
  Conditions needs;                               ///< what has to hold for any of it: an error else
  PhoneNeeds phone_needs;                         ///< what only a phone's sheet can tell
  std::map<std::string, std::string> processors;  ///< what `${arch}` is, where not the usual word
  std::vector<Edit> edits;
  std::string text;  ///< its TOML, so that a kit can carry it
  Settings given;    ///< of the values given, those it has a parameter for

  // What it was read with, so that it can be read again once more values are known.
  std::string spec;  ///< how it was named: for messages
  Settings settings;
  FileStorePtr files;
};

/// Reads `PATH` or `@name`. Files that do not depend on the phone's processor are read with it.
/// Settings that the recipe has no parameter for are left alone: another recipe may have it.
/// Errors: NotFound (the recipe), BadValue (the first mistake, with line and column), Unsupported
/// (format version, kind of edit), UnsafePath (a path that leaves the ramdisk), Usage (a parameter
/// without a value).
[[nodiscard]] Result<Recipe> load_recipe(const std::string& spec, const Settings& settings);
/// The same from text, e.g. a kit's. @param name  for messages
[[nodiscard]] Result<Recipe> read_recipe(std::string_view text, const std::string& name,
                                         const FileStorePtr& files, const Settings& settings);

/// Usage, when a setting is given that none of the recipes has a parameter for, and that tells
/// nothing of the phone.
[[nodiscard]] Status check_settings(const std::vector<Recipe>& recipes, const Settings& settings);
/// All recipes of a call. Errors: those of load_recipe and check_settings.
[[nodiscard]] Result<std::vector<Recipe>> load_recipes(const std::vector<std::string>& specs,
                                                       const Settings& settings);

/// The same recipe with these values in its texts, paths and files; what is not among them stays
/// open. Files that were read stay as they are. Errors: BadValue, UnsafePath (with a value filled
/// in something is a mistake).
[[nodiscard]] Result<Recipe> with_values(const Recipe& recipe, const Values& values);

/// Reads the files that were waiting for what the phone is. Errors: as load_recipe; NoTarget when a
/// file's name has a value that is not known.
/// @param wanted  edits whose files are needed now; empty: all
[[nodiscard]] Status bind_recipes(std::vector<Recipe>& recipes, const PhoneFacts& phone,
                                  const std::function<bool(const Edit&)>& wanted = {});

/// Every mistake, in the order of the lines. Errors: NotFound, Io (the recipe does not read).
[[nodiscard]] Result<std::vector<Mistake>> check_recipe(const std::string& spec,
                                                        const Settings& settings);

/// Edits of the first ramdisk that conditions keep from layouts in which they would do as well, for
/// no reason that is given: warnings.
[[nodiscard]] std::vector<Mistake> left_out_layouts(const Recipe& recipe);

/// What a reader of the recipe fails with: the heaviest mistake. nullopt: warnings at most.
[[nodiscard]] std::optional<Error> recipe_error(const std::vector<Mistake>& mistakes,
                                                const std::string& file);

struct BundledRecipe {
  std::string name;  ///< without the @
  std::string_view text;
};
/// The recipes that come with Wexlo.
[[nodiscard]] std::vector<BundledRecipe> bundled_recipes();
/// Its name, purpose and parameters, without loading any file it puts in.
[[nodiscard]] Result<Recipe> describe_recipe(std::string_view text, const std::string& name);

}  // namespace wexlo
