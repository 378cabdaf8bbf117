#pragma once
/// CRC-16 in the kinds that makers' containers use, and a source whose blocks have one each.

#include <cstdint>
#include <optional>
#include <span>

#include "base/source.hpp"

namespace wexlo {

/// How a CRC-16 is counted. Its polynomial is written with the lowest bit first where `reflected`.
struct Crc16Kind {
  std::string_view name;
  std::uint16_t polynomial = 0, start = 0, end = 0;  ///< `end` is XORed to the sum
  bool reflected = true;
};
/// The likeliest first.
[[nodiscard]] std::span<const Crc16Kind> crc16_kinds();
[[nodiscard]] std::uint16_t crc16_of(View bytes, const Crc16Kind& kind);

/// The kind whose sum of these bytes is this, in either byte order of the sum; nullopt: none's is.
struct Crc16Match {
  const Crc16Kind* kind = nullptr;
  bool swapped = false;  ///< the sum is stored with its high byte first
};
[[nodiscard]] std::optional<Crc16Match> crc16_match(View bytes, std::uint16_t stored);

/// A source with one CRC-16 for each block of `block` bytes (the last may be shorter). Which kind
/// of CRC it is the first block tells; a block whose sum fits no kind, or not the first one's, is
/// damaged.
/// @param sums  u16, little-endian; all of them 0 (and the bytes not): none were given
[[nodiscard]] SourcePtr with_block_crcs(SourcePtr source, std::uint32_t block, Bytes sums);

}  // namespace wexlo
