#pragma once
/// Deflate streams (RFC 1951) spelled out as tokens, so that two of them can be patched: literals,
/// lengths with distances, and the block headers with all that a packer was free to choose. Turning
/// the tokens back gives the very bits, but for a length of 258 that was spelled as 227 and 31
/// more: the form has one spelling of it, the usual one. It is that of deflate-aware patches:
/// docs/formats/patches.md.

#include "firmware/deflate_bits.hpp"

namespace wexlo {

/// The tokens of the blocks in a range. @param most  bytes they may take. Errors: Corrupt,
/// Truncated, LimitExceeded.
[[nodiscard]] Result<Bytes> tokens_of_deflate(View in, BitRange range, std::size_t most);

/// The bits of the blocks that the tokens spell. Errors: Corrupt.
[[nodiscard]] Status deflate_of_tokens(View tokens, BitWriter& out);

}  // namespace wexlo
