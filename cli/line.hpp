#pragma once
/// A command line held against the table of commands, before the parser sees it: what is wrong with
/// it is told in one voice, with the word that was probably meant.

#include <string>
#include <vector>

#include "base/error.hpp"
#include "command_table.hpp"

namespace wexlo::cli {

struct Line {
  const CommandRow* command = nullptr;  ///< nullptr: none was named
  std::vector<std::string> words;       ///< for the parser
  bool help = false;                    ///< --help stands in it
  bool version = false;
};

/// Errors: Usage.
[[nodiscard]] Result<Line> read_line(const CommandTable& table,
                                     const std::vector<std::string>& words);

}  // namespace wexlo::cli
