#include <fmt/format.h>

#include "commands.hpp"
#include "edits.hpp"
#include "options.hpp"
#include "recipe/recipe.hpp"
#include "reply.hpp"
#include "text/nearest.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

Result<Reply> list(const Session& session) {
  Reply reply;
  reply.result["recipes"] = Json::array();
  Table table({"recipe", "what it does"});
  for (const BundledRecipe& bundled : bundled_recipes()) {
    WEXLO_TRY(const Recipe recipe, describe_recipe(bundled.text, "@" + bundled.name));
    Json parameters = Json::array();
    std::string about = recipe.about;
    for (const Parameter& parameter : recipe.parameters) {
      parameters.push_back({{"name", parameter.name},
                            {"about", parameter.about},
                            {"default", parameter.fallback ? Json(*parameter.fallback) : Json()}});
      about += fmt::format(" --set {}={}", parameter.name, parameter.fallback.value_or("…"));
    }
    reply.result["recipes"].push_back(
        {{"name", "@" + bundled.name}, {"about", recipe.about}, {"parameters", parameters}});
    table.row({"@" + bundled.name, about});
  }
  reply.text = table.text(session.paint);
  return reply;
}

/// @param given  with or without its @: nothing else can be meant here
Result<Reply> show(const std::string& given) {
  const std::string name = given.starts_with('@') ? given : "@" + given;
  std::vector<std::string> names;
  for (const BundledRecipe& bundled : bundled_recipes()) {
    names.push_back("@" + bundled.name);
    if (names.back() != name) continue;
    Reply reply;
    reply.result = {{"name", name}, {"text", bundled.text}};
    reply.text = bundled.text;
    reply.as_it_is = true;
    return reply;
  }
  return fail({.code = ErrorCode::NotFound,
               .message = "no recipe of this name comes with Wexlo",
               .file = name,
               .hint = did_you_mean(name, names) + "wexlo recipes lists them."});
}

Result<Reply> check(const std::string& file, const std::vector<std::string>& given) {
  WEXLO_TRY(const Settings settings, settings_of(given));
  WEXLO_TRY(const auto mistakes, check_recipe(file, settings));
  Reply reply;
  Json rows = Json::array();
  std::size_t wrong = 0;  ///< warnings are none
  for (const Mistake& mistake : mistakes) {
    rows.push_back({{"level", mistake.warning ? "warning" : "problem"},
                    {"code", code_name(mistake.code)},
                    {"line", mistake.line},
                    {"column", mistake.column},
                    {"message", mistake.message},
                    {"expected", mistake.expected},
                    {"found", mistake.found}});
    wrong += mistake.warning ? 0 : 1;
    reply.text += fmt::format("{}:{}:{}: {}{}{}{}\n", printable(file), mistake.line, mistake.column,
                              mistake.warning ? "warning: " : "", printable(mistake.message),
                              mistake.expected.empty() ? "" : "; expected ", mistake.expected);
  }
  reply.result = {{"file", file}, {"mistakes", rows}};
  if (wrong == 0) reply.text += fmt::format("{}: no mistakes\n", printable(file));
  // The code that patch and prepare end with, too.
  if ((reply.refusal = recipe_error(mistakes, file))) {
    reply.refusal->hint.clear();
    if (wrong > 1) reply.refusal->hint = fmt::format("Correct all {} mistakes.", wrong);
  }
  return reply;
}

}  // namespace

void add_recipes(Commands& commands, Session& session, int& exit_code) {
  struct Options {
    std::string name, check;
    std::vector<std::string> settings;
  };
  auto options = std::make_shared<Options>();
  Command(commands, "recipes")
      .operand("@NAME", options->name, "A recipe to show", Need::Optional)
      .option("--check", "FILE", options->check, "Tell every mistake in a recipe")
      .option("--set", "NAME=VALUE", options->settings, "With --check: a parameter's value")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "recipes",
                           !options->check.empty() ? check(options->check, options->settings)
                           : options->name.empty() ? list(session)
                                                   : show(options->name));
      });
}

}  // namespace wexlo::cli
