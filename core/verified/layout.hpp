#pragma once
/// Where fields of a footer and of a hash descriptor stand, in bytes from its start:
/// docs/formats/vbmeta.md.

#include <cstddef>
#include <cstdint>

namespace wexlo::verified {

// A footer: u64 each, big-endian.
inline constexpr std::size_t kOriginalSizeAt = 12, kVbmetaOffsetAt = 20, kVbmetaSizeAt = 28;

/// A vbmeta struct's header; its blocks follow.
inline constexpr std::size_t kVbmetaHeader = 256;
/// A descriptor's flag: what it covers is named without a slot's suffix.
inline constexpr std::uint32_t kNoSlot = 1;

inline constexpr std::size_t kHashImageSizeAt = 16;  ///< u64, big-endian
/// A hash descriptor's fixed part; name, salt and digest follow, one directly behind the other.
inline constexpr std::size_t kHashFixed = 132;

}  // namespace wexlo::verified
