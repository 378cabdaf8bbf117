#pragma once
/// The 512-byte header that some chipsets want before a part: inside the kernel or ramdisk section
/// of a boot image (whose sizes count it), or before a whole image: docs/formats/wrappings.md.

#include <optional>
#include <string>

#include "base/bytes.hpp"

namespace wexlo::part_header {

inline constexpr std::size_t kSize = 512;

[[nodiscard]] bool looks_like(View start);

/// A part taken out of its wrapping; header and rest are empty when it has none.
struct Split {
  Blob header;
  Blob payload;  ///< as long as the header says, or all there is when that is not possible
  Blob rest;     ///< what follows the payload
};
[[nodiscard]] Split split(const Blob& part);

/// Bytes that the header says follow it.
[[nodiscard]] std::uint32_t payload_size(View header);
/// Writes that.
void set_payload_size(MutableView header, std::uint32_t size);

/// The header's own name for the part, e.g. "KERNEL".
[[nodiscard]] std::string name_of(View header);

/// The header for a payload of another size. A size that was not right stays as it was.
[[nodiscard]] Bytes renewed(View header, std::uint64_t old_size, std::uint64_t new_size);

}  // namespace wexlo::part_header
