#pragma once
/// The older boot signature of an image that is being sealed.

#include "seal/seal_options.hpp"

namespace wexlo {

/// Images that have one are held in memory: larger ones are left alone.
inline constexpr std::uint64_t kMaxOlder = 256u << 20;

/// Kept, taken out or made again, as the options say. @return the image to go on with
[[nodiscard]] Result<SourcePtr> seal_older(const SealInput& input, const SealOptions& options,
                                           SealedImage& sealed, std::vector<Finding>& findings);

}  // namespace wexlo
