#pragma once
/// Which slots a kit writes.

#include <optional>

#include "firmware/firmware.hpp"
#include "kit/facts/sheet.hpp"
#include "kit/facts/ways.hpp"

namespace wexlo {

struct SlotChoice {
  Slots slots = Slots::Current;
  std::string reason;  ///< a clause
};

/// Pure. @param asked  by the user; nullopt: both where the sheet says that they are the same
/// @param elsewhere  something is installed, which fills the slot that the phone does not start
/// from
[[nodiscard]] SlotChoice choose_slots(std::optional<Slots> asked, std::optional<bool> slotted,
                                      const BuildFacts& build, const Sheet* sheet, bool elsewhere);

}  // namespace wexlo
