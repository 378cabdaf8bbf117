#pragma once
/// The program behind a shell's redirections and limits, and what every reply has to be.

#include "program/bench.hpp"

namespace wexlo::test {

inline Ran in_shell(const TempDir& dir, const std::string& line) {
  return shell("export XDG_CONFIG_HOME=/nonexistent NO_COLOR=1; " + line, dir.path().string());
}
inline const std::string kWexlo = std::string("\"") + built_program() + "\" ";

/// No signal, and a reply that is whole.
inline void check_sane(const TempDir& dir, const std::vector<std::string>& words) {
  std::string shown;
  for (const std::string& word : words)
    shown += word + " ";
  CAPTURE(shown);
  const Ran ran = program(dir, words);
  CAPTURE(ran.out);
  CAPTURE(ran.err);
  CHECK(ran.exit_code < 7);
  const bool json = std::ranges::find(words, "--json") != words.end();
  if (json) CHECK(Json::accept(ran.out));
  if (ran.exit_code != 0 && !json) CHECK_FALSE(ran.err.empty());
}

}  // namespace wexlo::test
