#pragma once
/// What a simulated phone does with packages: those that recovery installs, and those that a
/// program hands over in download mode.

#include "firmware/firmware.hpp"
#include "phone/simulated/simulated_phone.hpp"

namespace wexlo {

struct Installed {
  std::vector<std::string> partitions;  ///< that were written, with their slots
  std::string said;                     ///< a clause on what happened
  bool known = true;                    ///< false: an installer of its own kind, left undone
};

/// From recovery. A payload goes to the slot that the phone does not start from, which it starts
/// from next; images in a zip go where they are named. An image of the user's data wipes them.
/// Errors: PhoneRefused (recovery does not run; the package is for another device; a partition is
/// not there, or too small), those of reading it.
[[nodiscard]] Result<Installed> install_package(SimulatedPhone& phone, const SourcePtr& package);

/// In download mode: a tar, its sum line true. Errors: PhoneRefused (the mode; the guard takes
/// official images only; a name that is no partition; too large), those of reading it.
[[nodiscard]] Result<Installed> take_download(SimulatedPhone& phone, const SourcePtr& tar);

}  // namespace wexlo
