#pragma once
/// What is looked at before a phone is changed: is it the right one, and ready?

#include <set>

#include "base/finding.hpp"
#include "flash/player.hpp"

namespace wexlo {

struct PreflightInput {
  const std::vector<Step>& steps;         ///< that will be played
  Phone& phone;                           ///< at its bootloader
  const std::set<std::string>& accepted;  ///< ids of steps; "battery"
};

/// Every expectation that can be asked now, the charge, and the room for what is written. Problems
/// are those that nobody accepted; nothing was changed. Errors: LinkLost, Interrupted.
[[nodiscard]] Result<std::vector<Finding>> look_before(const PreflightInput& input);

}  // namespace wexlo
