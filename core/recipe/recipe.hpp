#pragma once
/// Recipes: the declared edits of a patch, read from TOML: docs/recipes.md.

#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

/// Puts a file into the ramdisk, in place of one of that path or as a new one.
struct PutEdit {
  std::string path;  ///< place in the ramdisk
  Blob content;
  std::string from;  ///< where the content came from, as the recipe spells it
  std::optional<std::uint32_t> mode, uid, gid;  ///< default: the replaced file's, else 0644 0:0
  bool keep_stock = false;                      ///< keeps the replaced file under /wexlo/stock/
};
/// Drops manager flags in the ramdisk's fstab files.
struct FstabDropEdit {
  std::string mount_point;  ///< "*": every entry
  std::vector<std::string> flags;
};
/// Sets properties in a property file of the ramdisk.
struct PropertyEdit {
  std::string file;
  std::vector<std::pair<std::string, std::string>> values;
};
/// Sets and clears flags of the top-level vbmeta struct.
struct VbmetaFlagsEdit {
  std::uint32_t set = 0, clear = 0;
};

struct Edit {
  std::string kind;       ///< "put", "fstab-drop", "property", "vbmeta-flags"
  std::string recipe;     ///< the recipe's name
  std::string partition;  ///< where it acts; empty: where its kind usually does
  bool may_miss = false;  ///< matching nothing is no error
  std::size_t line = 0;   ///< in the recipe
  std::variant<PutEdit, FstabDropEdit, PropertyEdit, VbmetaFlagsEdit> what;

  [[nodiscard]] std::string summary() const;  ///< one line for people
  /// SHA-256 over everything that decides what the edit does, hex: how a journal knows it again.
  [[nodiscard]] std::string digest() const;
  /// It acts on a vbmeta image, not on a ramdisk.
  [[nodiscard]] bool on_vbmeta() const { return std::holds_alternative<VbmetaFlagsEdit>(what); }
};

struct Parameter {
  std::string name, about;
  std::optional<std::string> fallback;
  bool file = false;  ///< its value is a path: from --set against the working folder
};

struct Recipe {
  std::string name, about;
  std::vector<Parameter> parameters;
  std::vector<Edit> edits;
};

/// Values given with --set.
using Settings = std::map<std::string, std::string>;

/// Reads `PATH` or `@name`; file contents are read with it. Settings that the recipe has no
/// parameter for are left alone: another recipe may have it (see unused_setting).
/// Errors: NotFound (recipe, or a file it puts in), BadValue (with line), Unsupported (format
/// version, kind of edit), Usage (a parameter without a value).
[[nodiscard]] Result<Recipe> load_recipe(const std::string& spec, const Settings& settings);

/// All recipes of a call; Usage when a setting belongs to none of them.
[[nodiscard]] Result<std::vector<Recipe>> load_recipes(const std::vector<std::string>& specs,
                                                       const Settings& settings);

struct BundledRecipe {
  std::string name;  ///< without the @
  std::string_view text;
};
/// The recipes that come with Wexlo.
[[nodiscard]] std::vector<BundledRecipe> bundled_recipes();
/// Its name, purpose and parameters, without loading any file it puts in.
[[nodiscard]] Result<Recipe> describe_recipe(std::string_view text, const std::string& name);

}  // namespace wexlo
