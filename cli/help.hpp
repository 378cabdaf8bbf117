#pragma once
/// Pages for people, made from the table of commands: tasks, the list of commands, one command; as
/// text, as JSON, as man pages.

#include <filesystem>
#include <string>

#include "base/error.hpp"
#include "command_table.hpp"
#include "paint.hpp"
#include "tasks.hpp"
#include "text/json.hpp"

namespace wexlo::cli {

struct ExitMeaning {
  int code;
  std::string_view about;
};
[[nodiscard]] std::span<const ExitMeaning> exit_meanings();

/// What `wexlo` alone shows: the tasks, each with a command to copy.
[[nodiscard]] std::string tasks_text(const Paint& paint);
/// The tasks by name, and the commands in their groups.
[[nodiscard]] std::string overview_text(const CommandTable& table, const Paint& paint);
[[nodiscard]] std::string task_text(const Task& task, const Paint& paint);
[[nodiscard]] std::string command_text(const CommandTable& table, const CommandRow& row,
                                       const Paint& paint);

[[nodiscard]] Json tasks_json();
[[nodiscard]] Json task_json(const Task& task);
[[nodiscard]] Json command_json(const CommandRow& row);
[[nodiscard]] Json options_json(const std::vector<OptionRow>& rows);

/// A page in roff: wexlo.1 (row: nullptr), or wexlo-prepare.1.
[[nodiscard]] std::string man_page(const CommandTable& table, const CommandRow* row);
[[nodiscard]] std::string man_name(const CommandRow* row);

}  // namespace wexlo::cli
