/// The way back: from tokens to the very bits.

#include <algorithm>

#include "firmware/deflate_codes.hpp"

namespace wexlo {
namespace {

using namespace deflate;

class TokenReader {
 public:
  explicit TokenReader(View in) : in_(in) {}
  [[nodiscard]] bool empty() const { return in_.empty(); }
  Result<unsigned> byte() {
    WEXLO_TRY(const View one, bytes(1));
    return number(one[0]);
  }
  Result<unsigned> word() {
    WEXLO_TRY(const View two, bytes(2));
    return number(two[0]) << 8 | number(two[1]);
  }
  Result<View> bytes(std::size_t count) {
    if (count > in_.size()) return corrupt("its tokens end too early");
    const View out = in_.first(count);
    in_ = in_.subspan(count);
    return out;
  }

 private:
  View in_;
};

struct Token {
  enum Kind { Literals, Match, End } kind = End;
  View literals{};
  unsigned length = 0, distance = 0;
};

Result<Token> next_token(TokenReader& in) {
  WEXLO_TRY(const unsigned first, in.byte());
  if ((first & kNotLiterals) == 0) {
    unsigned count = first + 1;
    if (first == kLongForm) {
      WEXLO_TRY(const unsigned more, in.word());
      count = more + kShortLiterals + 1;
    }
    WEXLO_TRY(const View literals, in.bytes(count));
    return Token{Token::Literals, literals};
  }
  unsigned length = (first & ~kNotLiterals) + 3;
  if ((first & ~kNotLiterals) == kLongForm) {
    WEXLO_TRY(const unsigned more, in.byte());
    if (more == kEndToken) return Token{};
    length = more + kLongForm + 3;
  }
  if (length > 258) return corrupt("a length that is too long");
  WEXLO_TRY(const unsigned distance, in.word());
  if (distance >= 32768) return corrupt("a distance that is too far");
  return Token{Token::Match, {}, length, distance + 1};
}

template <std::size_t N>
unsigned index_in(const std::array<unsigned, N>& bases, unsigned value) {
  return static_cast<unsigned>(std::ranges::upper_bound(bases, value) - bases.begin()) - 1;
}

Status write_match(const Token& token, const BlockCodes& codes, BitWriter& out) {
  const unsigned length = index_in(kLengthBase, token.length);
  WEXLO_CHECK(codes.literals.write(out, kFirstLength + length));
  out.put(token.length - kLengthBase[length], kLengthExtra[length]);
  const unsigned distance = index_in(kDistanceBase, token.distance);
  WEXLO_CHECK(codes.distances.write(out, distance));
  out.put(token.distance - kDistanceBase[distance], kDistanceExtra[distance]);
  return {};
}

Result<BlockCodes> write_dynamic(View header, BitWriter& out) {
  TokenReader in(header);
  WEXLO_TRY(const unsigned literals, in.byte());
  WEXLO_TRY(const unsigned distances, in.byte());
  WEXLO_TRY(const unsigned codes, in.byte());
  if (literals + 257 > 286 || distances + 1 > 30 || codes > 15)
    return corrupt("it has too many codes");
  out.put(literals, 5);
  out.put(distances, 5);
  out.put(codes, 4);
  std::vector<unsigned> lengths(kOrder.size());
  unsigned pair = 0;
  for (unsigned i = 0; i < codes + 4; ++i) {
    if (i % 2 == 0) {
      WEXLO_TRY(pair, in.byte());
    }
    const unsigned length = i % 2 == 0 ? pair >> 4 : pair & 0xf;
    if (length > kMaxCodeBits) return corrupt("a code length that is too long");
    lengths[kOrder[i]] = length;
    out.put(length, 3);
  }
  WEXLO_TRY(const Codes code_lengths, Codes::build(lengths));
  std::vector<unsigned> all;
  const std::size_t count = literals + 257 + distances + 1;
  while (all.size() < count) {
    WEXLO_TRY(const unsigned noted, in.byte());
    const unsigned symbol = noted < 16 ? noted : noted < 20 ? 16 : noted < 28 ? 17 : 18;
    if (noted > 28 + 127) return corrupt("a code length that is not there");
    WEXLO_CHECK(code_lengths.write(out, symbol));
    if (symbol < 16) {
      all.push_back(symbol);
      continue;
    }
    const unsigned extra = noted - (symbol == 16 ? 16 : symbol == 17 ? 20 : 28);
    out.put(extra, symbol == 16 ? 2 : symbol == 17 ? 3 : 7);
    if (symbol == 16 && all.empty()) return corrupt("it repeats a length before the first");
    all.insert(all.end(), extra + (symbol == 18 ? 11 : 3), symbol == 16 ? all.back() : 0);
  }
  if (all.size() != count || !in.empty()) return corrupt("its code lengths do not add up");
  return codes_of(std::move(all), literals + 257);
}

Status write_stored(unsigned skip, TokenReader& in, BitWriter& out) {
  const auto gap = static_cast<unsigned>((8 - out.size() % 8) % 8);
  out.put(skip & ((1u << gap) - 1), gap);
  Bytes content;
  for (;;) {
    WEXLO_TRY(const Token token, next_token(in));
    if (token.kind == Token::End) break;
    if (token.kind != Token::Literals || content.size() + token.literals.size() > 0xffff)
      return corrupt("a stored block that is none");
    append(content, token.literals);
  }
  const auto size = static_cast<unsigned>(content.size());
  out.put(size, 16);
  out.put(size ^ 0xffff, 16);
  for (const std::byte value : content)
    out.put(number(value), 8);
  return {};
}

Status write_block(TokenReader& in, const BlockCodes& codes, BitWriter& out) {
  for (;;) {
    WEXLO_TRY(const Token token, next_token(in));
    if (token.kind == Token::End) return codes.literals.write(out, kEnd);
    if (token.kind == Token::Match) {
      WEXLO_CHECK(write_match(token, codes, out));
      continue;
    }
    for (const std::byte value : token.literals)
      WEXLO_CHECK(codes.literals.write(out, number(value)));
  }
}

}  // namespace

void BitWriter::put(std::uint32_t value, unsigned count) {
  bits_ |= (value & ((std::uint64_t{1} << count) - 1)) << held_;
  held_ += count;
  for (; held_ >= 8; held_ -= 8, bits_ >>= 8)
    out_.push_back(static_cast<std::byte>(bits_ & 0xff));
}

void BitWriter::flush() {
  if (held_ == 0) return;
  out_.push_back(static_cast<std::byte>(bits_ & 0xff));
  bits_ = 0;
  held_ = 0;
}

Status deflate_of_tokens(View tokens, BitWriter& out) {
  TokenReader in(tokens);
  while (!in.empty()) {
    WEXLO_TRY(const unsigned size, in.word());
    WEXLO_TRY(const View header, in.bytes(std::size_t{size} + 1));
    const unsigned first = number(header[0]), type = first >> 5 & 3;
    out.put(first >> 7, 1);
    out.put(type, 2);
    if (type == Stored) {
      WEXLO_CHECK(write_stored(first & 0x1f, in, out));
      continue;
    }
    if (type != Fixed && type != Dynamic) return corrupt("a block of a type that is not there");
    auto codes = type == Fixed ? fixed_codes() : write_dynamic(header.subspan(1), out);
    if (!codes) return fail(std::move(codes).error());
    WEXLO_CHECK(write_block(in, *codes, out));
  }
  return {};
}

}  // namespace wexlo
