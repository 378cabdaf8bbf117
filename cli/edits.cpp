#include "edits.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>

#include "text/text.hpp"

namespace wexlo::cli {

void add_recipe_options(Command& command, RecipeOptions& options, Need need) {
  command.section(Section::Recipes)
      .option("-r,--recipe", "RECIPE", options.recipes,
              "A recipe file, or @NAME for one that comes with Wexlo; edits are done in the order "
              "of the recipes",
              need)
      .gathers()
      .option("--set", "NAME=VALUE", options.settings,
              "A value for a recipe's parameter, or what no image tells of the phone: arch=, kmi=, "
              "sdk=")
      .flag("--onto-foreign", options.onto_foreign, "Patch on top of another tool's patch")
      .flag("--allow-programs", options.allow_programs, kAllowPrograms);
}

Result<Settings> settings_of(const std::vector<std::string>& given) {
  Settings settings;
  for (const std::string& setting : given) {
    const std::size_t equals = setting.find('=');
    if (equals == std::string::npos || equals == 0)
      return fail({.code = ErrorCode::Usage,
                   .message = "--set needs NAME=VALUE",
                   .found = setting,
                   .hint = "For example --set arch=arm64"});
    settings[setting.substr(0, equals)] = setting.substr(equals + 1);
  }
  WEXLO_CHECK(told_of_phone(settings));
  return settings;
}

std::vector<std::string> recipe_files(const std::vector<std::string>& given,
                                      const UserSettings& settings) {
  std::vector<std::string> out = given;
  if (settings.recipes.empty()) return out;
  const auto bundled = bundled_recipes();
  for (std::string& one : out) {
    if (!one.starts_with('@') || one.size() == 1) continue;
    const std::string name = one.substr(1);
    if (std::ranges::find(bundled, name, &BundledRecipe::name) != bundled.end()) continue;
    std::error_code ignored;
    for (const auto& file :
         {settings.recipes / (name + ".toml"), settings.recipes / name / "recipe.toml"})
      if (one.starts_with('@') && std::filesystem::is_regular_file(file, ignored))
        one = file.string();
  }
  return out;
}

std::string sheet_file(const std::string& given, const UserSettings& settings) {
  std::error_code ignored;
  if (given.empty() || settings.sheets.empty() || std::filesystem::exists(given, ignored))
    return given;
  for (const auto& file : {settings.sheets / given, settings.sheets / (given + ".toml")})
    if (std::filesystem::is_regular_file(file, ignored)) return file.string();
  return given;
}

Result<std::vector<Recipe>> load(const RecipeOptions& options, const UserSettings& settings_of_user,
                                 Values& told) {
  WEXLO_TRY(const Settings settings, settings_of(options.settings));
  WEXLO_TRY(told, told_of_phone(settings));
  return load_recipes(recipe_files(options.recipes, settings_of_user), settings);
}

Json edits_json(const std::vector<EditReport>& edits) {
  Json out = Json::array();
  for (const EditReport& edit : edits) {
    Json effects = Json::array();
    for (const Effect& effect : edit.effects)
      effects.push_back({{"where", effect.where},
                         {"before", effect.before},
                         {"after", effect.after},
                         {"diff", effect.diff}});
    out.push_back({{"recipe", edit.recipe},
                   {"kind", edit.kind},
                   {"summary", edit.summary},
                   {"outcome", outcome_name(edit.outcome)},
                   {"why", edit.why},
                   {"details", edit.details},
                   {"effects", effects}});
  }
  return out;
}

Json edits_json(const Patched& patched) {
  std::vector<EditReport> all = patched.edits;
  all.insert(all.end(), patched.added.begin(), patched.added.end());
  return edits_json(all);
}

Json way_back_json(const WayBack& way_back) {
  return {{"in_image", way_back.in_image}, {"size", way_back.size}, {"reason", way_back.reason}};
}

std::string way_back_text(const WayBack& way_back) {
  return way_back.in_image
             ? fmt::format("way back: wexlo restore gives the stock image again ({})\n",
                           way_back.reason)
             : fmt::format("way back: keep the stock image, it is needed for it ({})\n",
                           way_back.reason);
}

std::vector<Finding> findings_of(const Patched& patched, const std::string& where) {
  std::vector<Finding> out;
  out.reserve(patched.lowered.size() + patched.conflicts.size());
  for (const Lowered& one : patched.lowered)
    out.push_back({Level::Warning, one.code, one.about, where});
  for (Finding one : patched.warnings) {
    one.where = where;
    out.push_back(std::move(one));
  }
  for (const Conflict& one : patched.conflicts)
    out.push_back({Level::Warning, FindingCode::EditConflict,
                   fmt::format("{} was changed by \"{}\" and again by \"{}\": the later has its "
                               "way.",
                               one.where, one.earlier, one.later),
                   where});
  if (patched.changed && !patched.way_back.in_image)
    out.push_back({Level::Warning, FindingCode::WayBackElsewhere,
                   fmt::format("The patched image alone does not lead back to the stock one: {}. "
                               "Keep the stock image.",
                               patched.way_back.reason),
                   where});
  for (const Remark& note : patched.notes)
    out.push_back({Level::Note, FindingCode::VerifiedBoot, note.text, where});
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

namespace {

std::string effects_text(const Session& session, const EditReport& edit) {
  std::string out;
  for (const Effect& effect : edit.effects) {
    out += fmt::format("      {}: {} -> {}\n", printable(effect.where), printable(effect.before),
                       printable(effect.after));
    for (const std::string& line : effect.diff) {
      const std::string shown = "        " + printable(line);
      out += (line.starts_with('+')   ? session.paint.good(shown)
              : line.starts_with('-') ? session.paint.warning(shown)
                                      : shown) +
             "\n";
    }
  }
  return out;
}

}  // namespace

std::string edits_text(const Session& session, const std::vector<EditReport>& edits, Shown shown) {
  std::string out;
  for (const EditReport& edit : edits) {
    if (edit.outcome == Outcome::Elsewhere && !session.globals.verbose) continue;
    const std::string name(outcome_name(edit.outcome));
    const std::string mark =
        edit.outcome == Outcome::Applied ? session.paint.good(name) : session.paint.warning(name);
    const bool allowed = edit.outcome == Outcome::NoMatch && edit.may_miss;
    out += fmt::format("  {}: {}{}\n", mark, printable(edit.summary),
                       allowed ? " (the recipe allows that)" : "");
    const bool full = shown == Shown::Effects || session.globals.verbose;
    if (!edit.why.empty() && (full || edit.outcome == Outcome::Skipped))
      out += fmt::format("      because {}\n", printable(edit.why));
    if (full && !edit.effects.empty()) {
      out += effects_text(session, edit);
      continue;
    }
    for (const std::string& detail : edit.details)
      out += fmt::format("      {}\n", printable(detail));
  }
  return out;
}

std::string edits_text(const Session& session, const Patched& patched, Shown shown) {
  std::string out = edits_text(session, patched.edits, shown);
  // What nobody asked for is told with its reason, always.
  return out + edits_text(session, patched.added, Shown::Effects);
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
