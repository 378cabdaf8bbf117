#pragma once
/// What the flags of vbmeta mean for a kit: data that becomes unreadable, a download mode that
/// wants them, another system that mounts what was dropped.

#include "firmware/stock_images.hpp"
#include "kit/facts/kit_image.hpp"
#include "kit/facts/room.hpp"
#include "kit/facts/ways.hpp"
#include "verified/chain.hpp"

namespace wexlo {

struct FlagsInput {
  const KitImages& images;
  const verified::Walk& walk;  ///< with the kit's images in place
  Way way = Way::Bootloader;
  StockImages& stock;
  bool restore = false;
  bool other_system = false;
  const std::vector<RoomPlan>& rooms;
};

/// Errors: those of reading the firmware's boot and vbmeta.
[[nodiscard]] Result<std::vector<Finding>> judge_flags(const FlagsInput& input,
                                                       const Context& context);

}  // namespace wexlo
