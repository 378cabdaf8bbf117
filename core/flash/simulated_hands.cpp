#include "flash/simulated_hands.hpp"

namespace wexlo {

Status SimulatedHands::by_hand(const Step& step, const act::ByHand& task, Phone&) {
  done.insert(step.id);
  switch (task.task) {
    case Task::Unlock: phone_.set_locked(false); break;
    case Task::LockWithKey: phone_.set_locked(true); break;
    case Task::Wipe: phone_.state.wiped = true; break;
    case Task::StartRecovery: phone_.state.mode = PhoneMode::Recovery; break;
    case Task::StartOnline: phone_.state.mode = PhoneMode::System; break;
    case Task::Ready:
    case Task::Identify:
    case Task::Write:
    case Task::Fill:
    case Task::Look: break;
  }
  return {};
}

Status SimulatedHands::install(const Step& step, const act::Install&, Phone&) {
  if (step.risk.data_loss) phone_.state.wiped = true;
  if (package) package(phone_.state, step);
  return {};
}

Status SimulatedHands::hand_over(const Step& step, const act::HandOver&, Phone&) {
  if (step.risk.data_loss) phone_.state.wiped = true;
  if (package) package(phone_.state, step);
  return {};
}

}  // namespace wexlo
