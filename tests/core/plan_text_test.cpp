/// plan.txt: the plan on a page, for a person at the bench.

#include <algorithm>

#include "kit/plan/plan_text.hpp"
#include "support/plan_facts.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("plan: for people: numbered, filled, with usual times and what is lost") {
  const std::string text = plan_for_people(make_plan(generic_system()));
  CHECK(text.find("\n    1. Get ready (2 min)\n") != std::string::npos);
  CHECK(text.find("Erase the user's data (30 s) ! DATA IS LOST ! CANNOT BE UNDONE") !=
        std::string::npos);
  CHECK(text.find("Start the system (10 min)") != std::string::npos);
  CHECK(text.find("\nThe way back, about ") != std::string::npos);
  std::size_t begin = 0;
  while (begin < text.size()) {
    const std::size_t end = std::min(text.find('\n', begin), text.size());
    CHECK(end - begin <= 80);
    begin = end + 1;
  }
}

TEST_CASE("plan: for people: expectations are one step, the step back has its number") {
  PlanFacts f = facts();
  f.this_slot = "a";
  const Plan plan = make_plan(f);
  const std::string text = plan_for_people(plan);
  CHECK(text.find(" Check, all of these:\n") != std::string::npos);
  const auto groups = grouped(plan.steps);
  std::size_t steps = 0, checks = 0;
  for (const StepGroup& group : groups) {
    CHECK(group.first == steps);
    steps = group.last + 1;
    checks += plan.steps[group.first].is<act::Expect>() ? 1 : 0;
  }
  CHECK(steps == plan.steps.size());
  CHECK(checks == 1);
  // Named by the number that it has on the page.
  const std::size_t at = text.find("[back: B") + 7;
  const std::string number = text.substr(at, text.find(']', at) - at);
  CHECK(text.find(number + ". Write init_boot: stock/") != std::string::npos);
  // Sizes are one line, and what was said once is not said again.
  CHECK(text.find("partition-size, in bytes at least: ") ==
        text.rfind("partition-size, in bytes at least: "));
  CHECK(text.find("A locked bootloader refuses") == text.rfind("A locked bootloader refuses"));
  CHECK(std::ranges::count(text, '\n') <= 66);
}

TEST_CASE("plan: usual times are told in seconds below a minute, then in whole minutes") {
  const auto told = [](unsigned seconds) {
    Plan plan;
    plan.steps.push_back(
        {.id = "x", .act = act::ByHand{}, .about = "Wait.", .usual_seconds = seconds});
    const std::string text = plan_for_people(plan);
    const std::size_t at = text.find("Get ready (") + 11;
    return text.substr(at, text.find(')', at) - at);
  };
  CHECK(told(59) == "59 s");
  CHECK(told(60) == "1 min");
  CHECK(told(61) == "2 min");
  CHECK(told(600) == "10 min");
}
