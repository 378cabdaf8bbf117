#pragma once
/// The simulated phone's end of the bootloader's protocol: commands in, replies out.

#include <mutex>

#include "phone/fastboot/link.hpp"
#include "phone/simulated/simulated_phone.hpp"

namespace wexlo {

/// Answers a host until the link ends, or the phone leaves the mode that the host called it in.
/// @param turn  taken for each command: several hosts may call, one is answered at a time
/// @param told  after each command that was done, e.g. to keep the phone's state; may be empty
void serve_bootloader(Link& host, SimulatedPhone& phone, std::mutex& turn,
                      const std::function<void()>& told);

}  // namespace wexlo
