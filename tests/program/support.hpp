#pragma once
/// Runs the built program and reads its JSON.

#include <nlohmann/json.hpp>

#include "program/schema.hpp"
#include "support/bytes.hpp"
#include "support/check.hpp"
#include "support/places.hpp"
#include "support/run.hpp"

namespace wexlo::test {

using Json = nlohmann::json;

/// A reply, and those inside the demo's, against docs/schema.
inline void check_reply(const Json& document) {
  static Schemas schemas;
  CHECK(schemas.trouble("reply", document) == "");
  std::string name = document["command"];
  std::ranges::replace(name, ' ', '-');
  const Json& result = document["result"];
  if (!result.empty() || document["ok"] == true) CHECK(schemas.trouble(name, result) == "");
  if (name == "demo" && result.contains("steps"))
    for (const Json& step : result["steps"])
      if (step.contains("reply")) check_reply(step["reply"]);
}

/// Runs wexlo in `folder`, untouched by the user's own settings.
inline Ran program(const TempDir& folder, std::vector<std::string> arguments) {
  arguments.insert(arguments.begin(), built_program());
  Ran ran = run(arguments, folder.path().string(), {"XDG_CONFIG_HOME=/nonexistent", "NO_COLOR=1"});
  if (std::ranges::find(arguments, "--json") != arguments.end() && Json::accept(ran.out))
    check_reply(Json::parse(ran.out));
  return ran;
}

/// With --json: the exit code has to agree with `ok`.
inline Json program_json(const TempDir& folder, std::vector<std::string> arguments,
                         int wanted = 0) {
  arguments.emplace_back("--json");
  const Ran ran = program(folder, std::move(arguments));
  CAPTURE(ran.out);
  CHECK(ran.exit_code == wanted);
  CHECK(ran.err.empty());
  const Json document = Json::parse(ran.out);
  CHECK(document["ok"] == (wanted == 0));
  // A command that wrote nothing says why.
  CHECK(document.contains("error") == (wanted != 0));
  return document;
}

/// Whether a reply has a finding. @param what  its code, or "LEVEL:CODE"
inline bool says(const Json& document, const std::string& what) {
  for (const Json& one : document["findings"]) {
    const auto code = one["code"].get<std::string>();
    if (code == what || one["level"].get<std::string>() + ":" + code == what) return true;
  }
  return false;
}

}  // namespace wexlo::test
