#pragma once
/// Where fields of a footer and of a hash descriptor stand, in bytes from its start:
/// docs/formats/vbmeta.md.

#include <cstddef>

namespace wexlo::verified {

// A footer: u64 each, big-endian.
inline constexpr std::size_t kOriginalSizeAt = 12, kVbmetaOffsetAt = 20, kVbmetaSizeAt = 28;

inline constexpr std::size_t kHashImageSizeAt = 16;  ///< u64, big-endian
/// A hash descriptor's fixed part; name, salt and digest follow, one directly behind the other.
inline constexpr std::size_t kHashFixed = 132;

}  // namespace wexlo::verified
