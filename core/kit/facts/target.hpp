#pragma once
/// Which image's ramdisk starts the system.

#include <string>
#include <vector>

#include "firmware/formats.hpp"
#include "ramdisk/layout.hpp"

namespace wexlo {

struct Candidate {
  std::string partition;
  const LoadedImage* image;
};

struct Target {
  std::string partition;
  std::string reason;  ///< one sentence with the evidence
  RamdiskLayout layout = RamdiskLayout::None;
};

/// init_boot when there is one with a ramdisk, else boot; where neither has one with a first
/// program, vendor_boot when that has; else recovery: then the system starts without a ramdisk and
/// only recovery can be given anything. Errors: NoTarget, saying what was looked at; those of
/// parse_ramdisk for the image that would be it.
/// @param creates  a recipe makes a ramdisk in a boot image without one
[[nodiscard]] Result<Target> choose_target(const std::vector<Candidate>& candidates,
                                           const Context& context = {}, bool creates = false);

}  // namespace wexlo
