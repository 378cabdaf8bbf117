#pragma once
/// Plans played on the simulated phone, with doctest's eyes on every step.

#include "flash/simulated_hands.hpp"
#include "support/check.hpp"

namespace wexlo::test {

class PlanPhone {
 public:
  PlanPhone() = default;
  explicit PlanPhone(PhoneState start) : state(std::move(start)) {}

  PhoneState state;
  std::set<std::string> person;  ///< ids of steps that were done by hand
  /// What else a step stands for: a package that is handed over, or installed.
  std::function<void(PhoneState&, const Step&)> outside;

  /// Every expectation has to hold.
  void play(const std::vector<Step>& steps) { CHECK(stopped_by(steps) == ""); }

  /// As far as the phone is what the plan expects. @return the expectation that does not hold;
  /// empty: all was done
  std::string stopped_by(const std::vector<Step>& steps) {
    for (const Step& step : steps)
      if (!says_all(step)) FAIL_CHECK("a step leaves something out: ", step.id);
    SimulatedPhone phone(state);
    SimulatedHands hands(phone);
    hands.package = outside;
    const Played played = wexlo::play(
        steps, phone, hands, [](const std::string&) { return Result<SourcePtr>(SourcePtr()); });
    state = phone.state;
    person.insert(hands.done.begin(), hands.done.end());
    if (played.done()) {
      CHECK(played.steps.size() == steps.size());
      return {};
    }
    const Step& last = steps[played.steps.size() - 1];
    CAPTURE(last.id);
    CAPTURE(last.about);
    REQUIRE_MESSAGE(last.is<act::Expect>(), describe(*played.error));
    return last.id;
  }

 private:
  /// What a person and a program need to know of a step. Thousands of plans are asked: one look
  /// each.
  static bool says_all(const Step& step) {
    const bool prose = !step.before.empty() && !step.success.empty() && step.usual_seconds > 0;
    const auto* write = step.get<act::Write>();
    const auto* hand_over = step.get<act::HandOver>();
    return prose && (!step.is<act::Wipe>() || step.risk.data_loss) &&
           (write == nullptr || (!write->file.file.empty() && !write->file.sha256.empty())) &&
           (hand_over == nullptr || !hand_over->settings.empty());
  }
};

}  // namespace wexlo::test
