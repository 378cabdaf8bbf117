#include "edits.hpp"

#include <fmt/format.h>

#include "base/text.hpp"

namespace wexlo::cli {

void add_recipe_options(Command& command, RecipeOptions& options) {
  command
      .list("-r,--recipe", "RECIPE", options.recipes,
            "A recipe file, or @NAME for one that comes with Wexlo", Need::Required)
      .option("--set", "NAME=VALUE", options.settings, "A value for a recipe's parameter");
}

Result<std::vector<Recipe>> load(const RecipeOptions& options) {
  Settings settings;
  for (const std::string& setting : options.settings) {
    const std::size_t equals = setting.find('=');
    if (equals == std::string::npos || equals == 0)
      return fail(
          {.code = ErrorCode::Usage, .message = "--set wants NAME=VALUE", .found = setting});
    settings[setting.substr(0, equals)] = setting.substr(equals + 1);
  }
  return load_recipes(options.recipes, settings);
}

Json edits_json(const std::vector<EditReport>& edits) {
  Json out = Json::array();
  for (const EditReport& edit : edits)
    out.push_back({{"recipe", edit.recipe},
                   {"kind", edit.kind},
                   {"summary", edit.summary},
                   {"outcome", outcome_name(edit.outcome)},
                   {"details", edit.details}});
  return out;
}

Json ranges_json(const std::vector<ChangedRange>& ranges) {
  Json out = Json::array();
  for (const ChangedRange& range : ranges)
    out.push_back({{"offset", range.offset},
                   {"size", range.size},
                   {"region", range.region},
                   {"cause", range.cause}});
  return out;
}

std::string edits_text(const Session& session, const std::vector<EditReport>& edits) {
  std::string out;
  for (const EditReport& edit : edits) {
    if (edit.outcome == Outcome::Elsewhere && !session.globals.verbose) continue;
    const std::string name(outcome_name(edit.outcome));
    const std::string mark =
        edit.outcome == Outcome::Applied ? session.paint.good(name) : session.paint.warning(name);
    const bool allowed = edit.outcome == Outcome::NoMatch && edit.may_miss;
    out += fmt::format("  {}: {}{}\n", mark, printable(edit.summary),
                       allowed ? " (the recipe allows that)" : "");
    for (const std::string& detail : edit.details)
      out += fmt::format("      {}\n", printable(detail));
  }
  return out;
}

std::string ranges_text(const Session& session, const std::vector<ChangedRange>& ranges) {
  if (ranges.empty()) return {};
  Table table({">offset", ">bytes", "region", "why it changed"});
  for (const ChangedRange& range : ranges)
    table.row({fmt::format("0x{:x}", range.offset), fmt::format("{}", range.size), range.region,
               range.cause});
  return table.text(session.paint);
}

}  // namespace wexlo::cli
