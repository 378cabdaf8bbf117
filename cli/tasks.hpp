#pragma once
/// What people come with, and the commands for it: shown by `wexlo` alone and by `wexlo help TASK`.

#include <span>
#include <string_view>

#include "command_table.hpp"

namespace wexlo::cli {

struct Task {
  std::string_view name;   ///< for wexlo help
  std::string_view title;  ///< in the words of who has it
  std::string_view first;  ///< the command to copy
  std::string_view about;  ///< what to know before
  std::span<const Example> steps;
  std::string_view see;
};
[[nodiscard]] std::span<const Task> tasks();
/// nullptr: no task is called so.
[[nodiscard]] const Task* find_task(std::string_view name);

}  // namespace wexlo::cli
