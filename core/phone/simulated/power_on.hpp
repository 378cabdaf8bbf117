#pragma once
/// What happens when a simulated phone is switched on: its loader picks a slot and judges verified
/// boot, its kernel unpacks what the loader joined and runs /init, and the system reads the user's
/// data, or does not. It knows no plan: what it finds wrong is found in what is on the phone.

#include "phone/simulated/started.hpp"
#include "phone/simulated/stock_state.hpp"

namespace wexlo {

/// Switches it on. Its state changes as a phone's does: tries, marks, stored indexes, fuse, data.
/// @param once   started in the place of boot, without being written; nullptr: nothing
/// @param stock  nullptr: not known
/// Errors: Interrupted, Io. What is wrong with images is in what is returned.
[[nodiscard]] Result<PoweredOn> power_on(SimulatedPhone& phone, const StockStatePtr& stock,
                                         const SourcePtr& once = nullptr);

}  // namespace wexlo
