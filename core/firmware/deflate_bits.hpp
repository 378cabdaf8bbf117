#pragma once
/// The bits of deflate streams: least significant bit of each byte first.

#include "base/bytes.hpp"

namespace wexlo {

/// A place in a stream of bits, least significant bit of each byte first.
struct BitRange {
  std::uint64_t offset = 0, size = 0;  ///< bits
};

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

namespace deflate {

[[nodiscard]] std::unexpected<Error> corrupt(const char* why);
[[nodiscard]] inline unsigned number(std::byte value) {
  return std::to_integer<unsigned>(value);
}

class BitReader {
 public:
  BitReader(View in, BitRange range)
      : in_(in), at_(range.offset), end_(range.offset + range.size) {}
  [[nodiscard]] std::uint64_t left() const { return end_ - at_; }
  [[nodiscard]] std::uint64_t position() const { return at_; }
  Result<unsigned> take(unsigned count) {
    if (count > left()) return corrupt("it ends too early");
    const unsigned value = peek(count);
    at_ += count;
    return value;
  }
  /// Bits behind the end read as 0.
  [[nodiscard]] unsigned peek(unsigned count) const {
    unsigned value = 0;
    const std::uint64_t from = at_ / 8;
    std::uint64_t word = 0;
    for (std::uint64_t i = 0; i < 5 && from + i < in_.size(); ++i)
      word |= std::uint64_t{std::to_integer<unsigned>(in_[static_cast<std::size_t>(from + i)])}
              << (8 * i);
    value = static_cast<unsigned>(word >> (at_ % 8)) & ((1u << count) - 1);
    return value;
  }
  void drop(unsigned count) { at_ += count; }

 private:
  View in_;
  std::uint64_t at_, end_;
};

}  // namespace deflate

}  // namespace wexlo
