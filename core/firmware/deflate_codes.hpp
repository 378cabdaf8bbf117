#pragma once
/// The codes of deflate blocks (RFC 1951) and the marks of their tokens, for deflate_tokens.cpp and
/// deflate_rebuild.cpp alone.

#include <array>
#include <vector>

#include "firmware/deflate_bits.hpp"

namespace wexlo::deflate {

inline constexpr unsigned kMaxBits = 15, kMaxCodeBits = 7;
inline constexpr unsigned kEnd = 256, kFirstLength = 257;
inline constexpr std::array<unsigned, 19> kOrder{16, 17, 18, 0, 8,  7, 9,  6, 10, 5,
                                                 11, 4,  12, 3, 13, 2, 14, 1, 15};
inline constexpr std::array<unsigned, 29> kLengthBase{3,  4,  5,  6,   7,   8,   9,   10,  11, 13,
                                                      15, 17, 19, 23,  27,  31,  35,  43,  51, 59,
                                                      67, 83, 99, 115, 131, 163, 195, 227, 258};
inline constexpr std::array<unsigned, 29> kLengthExtra{0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2,
                                                       2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0};
inline constexpr std::array<unsigned, 30> kDistanceBase{
    1,   2,   3,   4,   5,   7,    9,    13,   17,   25,   33,   49,   65,    97,    129,
    193, 257, 385, 513, 769, 1025, 1537, 2049, 3073, 4097, 6145, 8193, 12289, 16385, 24577};
inline constexpr std::array<unsigned, 30> kDistanceExtra{0, 0, 0,  0,  1,  1,  2,  2,  3,  3,
                                                         4, 4, 5,  5,  6,  6,  7,  7,  8,  8,
                                                         9, 9, 10, 10, 11, 11, 12, 12, 13, 13};
/// Tokens: the top bit of the first byte tells literals from the rest.
inline constexpr unsigned kNotLiterals = 0x80, kLongForm = 127;
inline constexpr unsigned kShortLiterals = 127, kLongestLiterals = 65536 + 127;
inline constexpr unsigned kEndToken = 259 - 3 - kLongForm;
enum BlockType : unsigned { Stored = 0, Fixed = 1, Dynamic = 2 };

/// Canonical codes of one alphabet, for both directions.
class Codes {
 public:
  /// Errors: Corrupt (more codes than the lengths leave room for).
  static Result<Codes> build(const std::vector<unsigned>& lengths);

  /// Errors: Corrupt.
  Result<unsigned> read(BitReader& in) const;
  /// Errors: Corrupt.
  Status write(BitWriter& out, unsigned symbol) const;

 private:
  static constexpr std::uint16_t kNone = 0xffff;
  std::vector<unsigned> lengths_;
  std::vector<std::uint16_t> codes_, symbols_;
  unsigned longest_ = 0;
};

struct BlockCodes {
  Codes literals, distances;
};

[[nodiscard]] Result<BlockCodes> fixed_codes();
/// @param literals  how many of the lengths are those of literals and lengths
[[nodiscard]] Result<BlockCodes> codes_of(std::vector<unsigned> lengths, std::size_t literals);

}  // namespace wexlo::deflate
