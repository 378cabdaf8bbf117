#pragma once
/// Hands that do on a simulated phone what a person would.

#include <set>

#include "flash/player.hpp"
#include "phone/simulated_phone.hpp"

namespace wexlo {

class SimulatedHands final : public Hands {
 public:
  explicit SimulatedHands(SimulatedPhone& phone) : phone_(phone) {}

  std::set<std::string> done;  ///< ids of steps that were done by hand
  /// What a package does to the phone when it is installed, or handed over; may be empty.
  std::function<void(PhoneState&, const Step&)> package;

  [[nodiscard]] Status by_hand(const Step& step, const act::ByHand& task, Phone& phone) override;
  [[nodiscard]] Status install(const Step& step, const act::Install& what, Phone& phone) override;
  [[nodiscard]] Status hand_over(const Step& step, const act::HandOver& what,
                                 Phone& phone) override;

 private:
  SimulatedPhone& phone_;
};

}  // namespace wexlo
