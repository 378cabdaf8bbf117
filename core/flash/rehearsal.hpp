#pragma once
/// A plan played on a simulated phone, up to the start of the system, and the way back: what will
/// happen, before it happens.

#include "flash/kit_phone.hpp"
#include "flash/player.hpp"

namespace wexlo {

struct RehearsedBack {
  std::vector<PlayedStep> steps;
  StartVerdict verdict = StartVerdict::CannotTell;  ///< of the start after it
  std::string reason;
  bool stock_again = false;  ///< every partition that was written holds the stock image again
};

struct Rehearsal {
  StartVerdict verdict = StartVerdict::CannotTell;
  StartCause cause = StartCause::None;
  std::string reason;  ///< sentences
  AddonSeen addon = AddonSeen::None;
  std::vector<PlayedStep> steps;
  std::vector<std::string> boot_log;  ///< of the start after the plan
  std::vector<std::string> shows;     ///< of that start, as one could save it: PoweredOn::shows
  std::vector<std::string> not_here;  ///< partitions taken for the phone's own, not looked at
  std::optional<RehearsedBack> back;  ///< nullopt: it was not played
  [[nodiscard]] bool stops() const {
    return verdict == StartVerdict::Stops || verdict == StartVerdict::OtherSlot;
  }
};

struct RehearsalInput {
  const KitPhoneInput& phone;
  OpenKitFile open;
  std::vector<Fault> faults{};
};

/// Errors: those of the kit's files, Interrupted. What goes wrong on the phone is in what is
/// returned.
[[nodiscard]] Result<Rehearsal> rehearse(const RehearsalInput& input, const Context& context);

}  // namespace wexlo
