#pragma once
/// plan.txt: a plan for a person at the bench.

#include "kit/plan/plan.hpp"

namespace wexlo {

[[nodiscard]] std::string plan_for_people(const Plan& plan);
/// What an expectation wants, as a clause: "product is gnomon".
[[nodiscard]] std::string expectation(const act::Expect& expect);
/// "40 s", "3 min": in whole minutes from one on, rounded up.
[[nodiscard]] std::string usual_time(unsigned seconds);

}  // namespace wexlo
