#pragma once
/// What a kit means for the phone that will run it: flags of vbmeta that make data unreadable, or
/// that a download mode wants; a system that mounts what was dropped; programs that cannot start.

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

/// Programs that the recipes put in, on a kernel whose pages are larger than what they are linked
/// for. Errors: those of reading the firmware's kernel.
[[nodiscard]] Result<std::vector<Finding>> judge_pages(const KitImages& images, StockImages& stock,
                                                       const Context& context);

/// Errors: those of reading the firmware's boot and vbmeta.
[[nodiscard]] Result<std::vector<Finding>> judge_flags(const FlagsInput& input,
                                                       const Context& context);

}  // namespace wexlo
