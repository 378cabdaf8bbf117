#pragma once
/// Logical images of a kit: is there room in super, and what has to go for it?

#include "firmware/firmware.hpp"
#include "kit/facts/kit_image.hpp"
#include "kit/facts/shape.hpp"

namespace wexlo {

/// What a kit does to super.
struct SuperChange {
  SuperFacts before;
  std::vector<RoomPlan> rooms;  ///< one for each logical image, in the order of the images
  /// Another system than the firmware's is put on the phone.
  bool other_system = false;
};

struct SuperInput {
  const Firmware& firmware;
  const PhoneShape& shape;
  const Sheet* sheet = nullptr;  ///< nullptr: none
  /// The phone's installer fills the slot that it does not start from, and images go there.
  bool lands_elsewhere = false;
  bool installs = false;  ///< a system package is installed
  bool wipe = false;
};

/// Looks for the images' names in super (KitImage::logical) and makes room for them.
/// Errors: DoesNotFit (a logical image together with a package that lands in the other slot).
[[nodiscard]] Result<SuperChange> place_in_super(const SuperInput& input, KitImages& images,
                                                 std::vector<Finding>& findings);

}  // namespace wexlo
