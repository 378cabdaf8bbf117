#include "kit/facts/slots.hpp"

namespace wexlo {

SlotChoice choose_slots(std::optional<Slots> asked, std::optional<bool> slotted,
                        const BuildFacts& build, const Sheet* sheet, bool elsewhere) {
  if (!slotted.value_or(true)) return {Slots::Current, "the phone has one"};
  const bool same = sheet != nullptr && !build.fingerprint.empty() &&
                    sheet->text("build.fingerprint") == build.fingerprint &&
                    sheet->text("build.other_slot") == build.fingerprint;
  if (asked == Slots::Both && elsewhere)
    return {Slots::Current, "the other slot is written by what is installed"};
  if (asked) return {*asked, "as was asked for"};
  if (same && !elsewhere)
    return {Slots::Both, "the sheet says that both slots have this very build"};
  return {Slots::Current, "nothing says that the other slot has the same build"};
}

}  // namespace wexlo
