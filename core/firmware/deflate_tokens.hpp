#pragma once
/// Deflate streams (RFC 1951) spelled out as tokens, so that two of them can be patched: literals,
/// lengths with distances, and the block headers with all that a packer was free to choose. Turning
/// the tokens back gives the very bits, but for a length of 258 that was spelled as 227 and 31
/// more: the form has one spelling of it, the usual one. It is that of deflate-aware patches:
/// docs/formats/patches.md.

#include "base/bytes.hpp"

namespace wexlo {

/// A place in a stream of bits, least significant bit of each byte first.
struct BitRange {
  std::uint64_t offset = 0, size = 0;  ///< bits
};

/// The tokens of the blocks in a range. @param most  bytes they may take. Errors: Corrupt,
/// Truncated, LimitExceeded.
[[nodiscard]] Result<Bytes> tokens_of_deflate(View in, BitRange range, std::size_t most);

/// Collects bits into bytes.
class BitWriter {
 public:
  explicit BitWriter(Bytes& out) : out_(out) {}
  /// @param count  at most 32
  void put(std::uint32_t value, unsigned count);
  [[nodiscard]] std::uint64_t size() const { return out_.size() * 8 + held_; }  ///< bits
  /// The last byte, when it is not whole.
  void flush();

 private:
  Bytes& out_;
  std::uint64_t bits_ = 0;
  unsigned held_ = 0;
};

/// The bits of the blocks that the tokens spell. Errors: Corrupt.
[[nodiscard]] Status deflate_of_tokens(View tokens, BitWriter& out);

}  // namespace wexlo
