#pragma once
/// plan.messages: a direction of a plan as requests of the bootloader's protocol, one a line, for
/// those who write with something else: docs/formats/kit.md.

#include <string>

#include "kit/plan/plan.hpp"

namespace wexlo {

/// Lines that begin with `#` are comments: a step's number, id and title, and what is done by
/// hand. A request that sends a file has the file's name behind a tab.
[[nodiscard]] std::string plan_messages(const Plan& plan, const std::vector<Step>& steps);

}  // namespace wexlo
