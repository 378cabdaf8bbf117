#pragma once
/// Is what a kit calls stock really stock? A kit's stock copies are the way back.

#include "firmware/stock_images.hpp"
#include "judge/image_origin.hpp"
#include "kit/facts/kit_image.hpp"

namespace wexlo {

/// What the firmware's own images showed when they were looked at, by partition.
using Origins = std::map<std::string, ImageOrigin>;

/// Images that show Wexlo's own patch, or another tool's, are no stock.
/// @param known   what was looked at already
/// @param strict  another tool's patch is a problem: nothing else looked for it
[[nodiscard]] Result<std::vector<Finding>> judge_origins(const KitImages& images,
                                                         StockImages& stock, const Origins& known,
                                                         bool strict, const Context& context);

/// What the firmware's own structs cover has to be what it holds. @param known  findings so far: an
/// image that was patched before is told once  @param lenient  a warning is enough
[[nodiscard]] Result<std::vector<Finding>> judge_covered(const KitImages& images,
                                                         StockImages& stock,
                                                         const std::vector<Finding>& known,
                                                         bool lenient, const Context& context);

/// An older kit of the same build knows the digests of its stock images.
/// @param before  SHA-256 by partition
[[nodiscard]] std::vector<Finding> judge_same_build(
    const KitImages& images, StockImages& stock, const std::map<std::string, std::string>& before);

}  // namespace wexlo
