#pragma once
/// How edits and changed ranges are told, and how recipes are named on the command line: shared by
/// the commands that patch.

#include <string>
#include <vector>

#include "options.hpp"
#include "recipe/patch.hpp"
#include "reply.hpp"

namespace wexlo::cli {

struct RecipeOptions {
  std::vector<std::string> recipes, settings;
  bool onto_foreign = false, allow_programs = false;
};
/// What --allow-programs is, for every command that applies recipes.
inline constexpr const char* kAllowPrograms =
    "Recipes may run programs that they bring along, with your rights";
void add_recipe_options(Command& command, RecipeOptions& options, Need need = Need::Required);
/// Errors: Usage (a setting that is not NAME=VALUE, or of another form than it has to be).
[[nodiscard]] Result<Settings> settings_of(const std::vector<std::string>& given);
/// @param told  gets what was told of the phone. Errors: those of settings_of and load_recipes.
[[nodiscard]] Result<std::vector<Recipe>> load(const RecipeOptions& options,
                                               const UserSettings& settings, Values& told);
/// `@NAME` of the user's own folder of recipes becomes that file; others stay as they are.
[[nodiscard]] std::vector<std::string> recipe_files(const std::vector<std::string>& given,
                                                    const UserSettings& settings);
/// `NAME` that is no file becomes NAME.toml of the user's folder of sheets, where it is there.
[[nodiscard]] std::string sheet_file(const std::string& given, const UserSettings& settings);

[[nodiscard]] Json edits_json(const std::vector<EditReport>& edits);
[[nodiscard]] Json ranges_json(const std::vector<ChangedRange>& ranges);
/// All edits, with those that the layout asked for.
[[nodiscard]] Json edits_json(const Patched& patched);
[[nodiscard]] Json way_back_json(const WayBack& way_back);
[[nodiscard]] std::string way_back_text(const WayBack& way_back);
/// Lowered protections, conflicts, the way back, notes.
[[nodiscard]] std::vector<Finding> findings_of(const Patched& patched, const std::string& where);

enum class Shown {
  Details,  ///< a line each
  Effects,  ///< before and after, with the texts' differences, and why it acted there
};
[[nodiscard]] std::string edits_text(const Session& session, const std::vector<EditReport>& edits,
                                     Shown shown);
[[nodiscard]] std::string edits_text(const Session& session, const Patched& patched, Shown shown);
[[nodiscard]] std::string ranges_text(const Session& session,
                                      const std::vector<ChangedRange>& ranges);

}  // namespace wexlo::cli
