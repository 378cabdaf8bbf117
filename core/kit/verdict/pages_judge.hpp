#pragma once
/// Programs of a kit on a kernel whose pages of memory are larger than usual.

#include "firmware/stock_images.hpp"
#include "kit/facts/kit_image.hpp"

namespace wexlo {

/// Looks at what differs from the stock ramdisks. Errors: those of reading the firmware's kernel
/// and ramdisks.
[[nodiscard]] Result<std::vector<Finding>> judge_pages(const KitImages& images, StockImages& stock,
                                                       const Context& context);

}  // namespace wexlo
