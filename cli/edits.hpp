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
};
void add_recipe_options(Command& command, RecipeOptions& options);
/// Errors: Usage (a setting that is not NAME=VALUE), and those of load_recipes.
[[nodiscard]] Result<std::vector<Recipe>> load(const RecipeOptions& options);

[[nodiscard]] Json edits_json(const std::vector<EditReport>& edits);
[[nodiscard]] Json ranges_json(const std::vector<ChangedRange>& ranges);
[[nodiscard]] std::string edits_text(const Session& session, const std::vector<EditReport>& edits);
[[nodiscard]] std::string ranges_text(const Session& session,
                                      const std::vector<ChangedRange>& ranges);

}  // namespace wexlo::cli
