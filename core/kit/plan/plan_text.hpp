#pragma once
/// plan.txt: a plan for a person at the bench, on a page. plan.toml has all of it.

#include "kit/plan/plan.hpp"

namespace wexlo {

[[nodiscard]] std::string plan_for_people(const Plan& plan);
/// What an expectation wants, as a clause: "product is gnomon".
[[nodiscard]] std::string expectation(const act::Expect& expect);
/// What is done, in a few words: "Write init_boot".
[[nodiscard]] std::string step_title(const Step& step);
/// The usual time of all steps, in seconds.
[[nodiscard]] unsigned whole_time(const std::vector<Step>& steps);
/// "40 s", "3 min": in whole minutes from one on, rounded up.
[[nodiscard]] std::string usual_time(unsigned seconds);

/// Steps that are told as one: expectations that follow each other.
struct StepGroup {
  std::size_t first = 0, last = 0;  ///< indexes into the plan's steps, both included
  /// "4", or "5-11": counted from 1.
  [[nodiscard]] std::string number() const;
};
[[nodiscard]] std::vector<StepGroup> grouped(const std::vector<Step>& steps);

/// What a group of expectations asks for, a line each: sizes of partitions are one line.
[[nodiscard]] std::vector<std::string> expectation_lines(const std::vector<Step>& steps,
                                                         const StepGroup& group);

}  // namespace wexlo
