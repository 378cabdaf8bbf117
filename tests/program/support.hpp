#pragma once
/// Runs the built program and reads its JSON.

#include <nlohmann/json.hpp>

#include "support/bytes.hpp"
#include "support/check.hpp"
#include "support/places.hpp"
#include "support/run.hpp"

namespace wexlo::test {

using Json = nlohmann::json;

/// Runs wexlo in `folder`, untouched by the user's own settings.
inline Ran program(const TempDir& folder, std::vector<std::string> arguments) {
  arguments.insert(arguments.begin(), built_program());
  return run(arguments, folder.path().string(), {"XDG_CONFIG_HOME=/nonexistent", "NO_COLOR=1"});
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
