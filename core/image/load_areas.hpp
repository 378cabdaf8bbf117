#pragma once
/// Where a loader of header versions 0 to 2 puts the parts of a boot image, by the addresses in its
/// header. Some loaders go by addresses of their own: what counts is what the stock image has not.

#include <string>
#include <vector>

#include "image/layout.hpp"

namespace wexlo::boot {

/// Pairs of parts that overlap there, e.g. "kernel and ramdisk"; none for other versions.
[[nodiscard]] std::vector<std::string> load_overlaps(const Image& image);
/// Those of `image` that `stock` has not.
[[nodiscard]] std::vector<std::string> new_load_overlaps(const Image& image, const Image& stock);

}  // namespace wexlo::boot
