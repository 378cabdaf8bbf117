#pragma once
/// The simulated phone that a kit is rehearsed on: as its sheet says, else as the kit expects it.

#include <map>
#include <memory>

#include "kit/facts/kit_image.hpp"
#include "kit/facts/sheet.hpp"
#include "kit/plan/plan.hpp"
#include "kit/verdict/super_room.hpp"
#include "phone/simulated/power_on.hpp"

namespace wexlo {

struct KitPhoneInput {
  std::string device;       ///< codename
  std::string patch_level;  ///< of the firmware, YYYY-MM-DD; empty: not known
  Way way = Way::Bootloader;
  bool slotted = true;
  const Plan& plan;
  const KitImages& images;
  const SuperChange* super = nullptr;  ///< nullptr: nothing in it is written
  const Sheet* sheet = nullptr;        ///< nullptr: nothing is known of the phone
  /// What takes part in its start, by the firmware that the kit was made of, bare names.
  std::vector<std::string> chain;
  /// Its stock images that the kit or the firmware has, by partition; with a slot, for that slot
  /// alone.
  std::map<std::string, SourcePtr> stock;
};

/// Of a phone with two slots either has the stock images. Errors: those of the sources.
[[nodiscard]] Result<std::unique_ptr<SimulatedPhone>> make_kit_phone(const KitPhoneInput& input,
                                                                     Faults faults,
                                                                     const Context& context);

}  // namespace wexlo
