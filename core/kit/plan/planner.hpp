#pragma once
/// From facts to the steps of a flash and the way back.

#include "kit/plan/plan.hpp"

namespace wexlo {

/// Pure: the same facts give the same plan.
[[nodiscard]] Plan make_plan(const PlanFacts& facts);

}  // namespace wexlo
