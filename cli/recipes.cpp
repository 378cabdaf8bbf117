#include <fmt/format.h>

#include "commands.hpp"
#include "options.hpp"
#include "recipe/recipe.hpp"
#include "reply.hpp"

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

Result<Reply> show(const std::string& name) {
  for (const BundledRecipe& bundled : bundled_recipes()) {
    if ("@" + bundled.name != name) continue;
    Reply reply;
    reply.result = {{"name", name}, {"text", bundled.text}};
    reply.text = bundled.text;
    return reply;
  }
  return fail({.code = ErrorCode::NotFound,
               .message = "no recipe of that name comes with Wexlo",
               .file = name,
               .hint = "See: wexlo recipes"});
}

}  // namespace

void add_recipes(CLI::App& app, Session& session, int& exit_code) {
  auto name = std::make_shared<std::string>();
  Command(app, "recipes", "List the recipes that come with Wexlo, or show one")
      .positional("NAME", *name, "A recipe to show, with its @", Need::Optional)
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "recipes", name->empty() ? list(session) : show(*name));
      });
}

}  // namespace wexlo::cli
