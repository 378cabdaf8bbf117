#pragma once
/// Running programs: the built one, and the general tools that serve as judges.

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
/// A shell line, for pipes between general tools.
[[nodiscard]] Ran shell(const std::string& line, const std::string& in_folder = "");

}  // namespace wexlo::test
