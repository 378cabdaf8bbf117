#include "firmware/deflate_tokens.hpp"

#include "firmware/deflate_codes.hpp"

namespace wexlo {
namespace {

using namespace deflate;

class Tokens {
 public:
  explicit Tokens(std::size_t most) : most_(most) {}

  void literal(std::byte value) {
    literals_.push_back(value);
    if (literals_.size() == kLongestLiterals) flush();
  }
  void match(unsigned length, unsigned distance) {
    flush();
    if (length < 3 + kLongForm) {
      put(kNotLiterals | (length - 3));
    } else {
      put(kNotLiterals | kLongForm);
      put(length - 3 - kLongForm);
    }
    put16(distance - 1);
  }
  void end() {
    flush();
    put(kNotLiterals | kLongForm);
    put(kEndToken);
  }
  void header(const Bytes& bytes) {
    flush();
    put16(static_cast<unsigned>(bytes.size() - 1));
    append(out_, View(bytes));
  }
  [[nodiscard]] bool too_many() const { return out_.size() + literals_.size() > most_; }
  Bytes finish() {
    flush();
    return std::move(out_);
  }

 private:
  void flush() {
    if (literals_.empty()) return;
    const auto count = static_cast<unsigned>(literals_.size());
    if (count <= kShortLiterals) {
      put(count - 1);
    } else {
      put(kLongForm);
      put16(count - kShortLiterals - 1);
    }
    append(out_, View(literals_));
    literals_.clear();
  }
  void put(unsigned value) { out_.push_back(static_cast<std::byte>(value)); }
  void put16(unsigned value) {
    put(value >> 8 & 0xff);
    put(value & 0xff);
  }
  std::size_t most_;
  Bytes out_, literals_;
};

/// The code lengths of a dynamic block, as they are packed; each symbol is noted in the header.
Result<std::vector<unsigned>> read_lengths(BitReader& in, const Codes& codes, std::size_t count,
                                           Bytes& header) {
  std::vector<unsigned> out;
  const auto note = [&](unsigned value) { header.push_back(static_cast<std::byte>(value)); };
  while (out.size() < count) {
    WEXLO_TRY(const unsigned symbol, codes.read(in));
    if (symbol < 16) {
      note(symbol);
      out.push_back(symbol);
      continue;
    }
    const unsigned bits = symbol == 16 ? 2 : symbol == 17 ? 3 : 7;
    WEXLO_TRY(const unsigned extra, in.take(bits));
    note((symbol == 16 ? 16 : symbol == 17 ? 20 : 28) + extra);
    if (symbol == 16 && out.empty()) return corrupt("it repeats a length before the first");
    const unsigned value = symbol == 16 ? out.back() : 0;
    out.insert(out.end(), extra + (symbol == 18 ? 11 : 3), value);
  }
  if (out.size() != count) return corrupt("it has too many code lengths");
  return out;
}

Result<BlockCodes> read_dynamic(BitReader& in, Bytes& header) {
  WEXLO_TRY(const unsigned literals, in.take(5));
  WEXLO_TRY(const unsigned distances, in.take(5));
  WEXLO_TRY(const unsigned codes, in.take(4));
  if (literals + 257 > 286 || distances + 1 > 30) return corrupt("it has too many codes");
  for (const unsigned value : {literals, distances, codes})
    header.push_back(static_cast<std::byte>(value));
  std::vector<unsigned> lengths(kOrder.size());
  for (unsigned i = 0; i < codes + 4; ++i) {
    WEXLO_TRY(lengths[kOrder[i]], in.take(3));
    // Two lengths share a byte, the first one above.
    if (i % 2 == 0)
      header.push_back(static_cast<std::byte>(lengths[kOrder[i]] << 4));
    else
      header.back() |= static_cast<std::byte>(lengths[kOrder[i]]);
  }
  WEXLO_TRY(const Codes code_lengths, Codes::build(lengths));
  WEXLO_TRY(auto all, read_lengths(in, code_lengths, literals + 257 + distances + 1, header));
  return codes_of(std::move(all), literals + 257);
}

Status read_stored(BitReader& in, Bytes header, Tokens& tokens) {
  const auto skipped = static_cast<unsigned>((8 - in.position() % 8) % 8);
  WEXLO_TRY(const unsigned skip, in.take(skipped));
  header[0] |= static_cast<std::byte>(skip);
  WEXLO_TRY(const unsigned length, in.take(16));
  WEXLO_TRY(const unsigned inverse, in.take(16));
  if ((length ^ inverse) != 0xffff) return corrupt("a stored block's length is wrong");
  tokens.header(header);
  for (unsigned i = 0; i < length; ++i) {
    WEXLO_TRY(const unsigned value, in.take(8));
    tokens.literal(static_cast<std::byte>(value));
  }
  tokens.end();
  return {};
}

Status read_block(BitReader& in, const BlockCodes& codes, Tokens& tokens) {
  for (;;) {
    if (tokens.too_many())
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "a deflate stream in the patch spells more than it promises"});
    WEXLO_TRY(const unsigned symbol, codes.literals.read(in));
    if (symbol < kEnd) {
      tokens.literal(static_cast<std::byte>(symbol));
      continue;
    }
    if (symbol == kEnd) break;
    const unsigned index = symbol - kFirstLength;
    if (index >= kLengthBase.size()) return corrupt("a length that is not there");
    WEXLO_TRY(const unsigned more, in.take(kLengthExtra[index]));
    WEXLO_TRY(const unsigned distance, codes.distances.read(in));
    if (distance >= kDistanceBase.size()) return corrupt("a distance that is not there");
    WEXLO_TRY(const unsigned far, in.take(kDistanceExtra[distance]));
    tokens.match(kLengthBase[index] + more, kDistanceBase[distance] + far);
  }
  tokens.end();
  return {};
}

}  // namespace

Result<Bytes> tokens_of_deflate(View in, BitRange range, std::size_t most) {
  if (range.size > in.size() * 8 || range.offset > in.size() * 8 - range.size)
    return corrupt("it lies outside the data");
  BitReader reader(in, range);
  Tokens tokens(most);
  // A stream may be cut at any block: there are blocks as long as there are bits for one.
  while (reader.left() >= 8) {
    WEXLO_TRY(const unsigned final_block, reader.take(1));
    WEXLO_TRY(const unsigned type, reader.take(2));
    Bytes header{static_cast<std::byte>(final_block << 7 | type << 5)};
    if (type == Stored) {
      WEXLO_CHECK(read_stored(reader, std::move(header), tokens));
      continue;
    }
    if (type != Fixed && type != Dynamic) return corrupt("a block of a type that is not there");
    auto codes = type == Fixed ? fixed_codes() : read_dynamic(reader, header);
    if (!codes) return fail(std::move(codes).error());
    tokens.header(header);
    WEXLO_CHECK(read_block(reader, *codes, tokens));
  }
  return tokens.finish();
}

}  // namespace wexlo
