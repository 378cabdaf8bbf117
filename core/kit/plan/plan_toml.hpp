#pragma once
/// plan.toml, out and in: read_plan(format_plan(x)) == x. The same plan gives the same bytes.

#include "base/error.hpp"
#include "kit/plan/plan.hpp"

namespace wexlo {

inline constexpr std::string_view kPlanFile = "plan.toml";

[[nodiscard]] std::string format_plan(const Plan& plan);

/// @param file  what errors call it. Errors: BadValue with line and key (a key that is missing,
/// unknown, of the wrong type, or that does not go with the act; an id that is there twice; a step
/// back that is not there), Unsupported (another format version), LimitExceeded.
[[nodiscard]] Result<Plan> read_plan(std::string_view text, const std::string& file);

}  // namespace wexlo
