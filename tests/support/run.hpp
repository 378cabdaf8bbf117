#pragma once
/// Running programs: the built one, and the general tools that serve as judges.

#include <functional>
#include <string>
#include <vector>

namespace wexlo::test {

struct Ran {
  int exit_code = -1;
  std::string out, err;
};

/// Runs a program; arguments are passed as they are. @param in_folder  working folder, if not empty
[[nodiscard]] Ran run(const std::vector<std::string>& command, const std::string& in_folder = "",
                      const std::vector<std::string>& environment = {});
/// What is typed, given all that was shown so far; it is asked after each piece of output. Empty:
/// nothing.
using Typist = std::function<std::string(const std::string& shown)>;
/// As a person runs it who sits at a terminal: `out` has all that was shown, `err` nothing.
[[nodiscard]] Ran run_in_terminal(const std::vector<std::string>& command,
                                  const std::string& in_folder = "",
                                  const std::vector<std::string>& environment = {},
                                  const Typist& types = {});
/// A shell line, for pipes between general tools.
[[nodiscard]] Ran shell(const std::string& line, const std::string& in_folder = "");

}  // namespace wexlo::test
