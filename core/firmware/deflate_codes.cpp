#include "firmware/deflate_codes.hpp"

#include <algorithm>

namespace wexlo::deflate {
namespace {

unsigned reverse(unsigned code, unsigned length) {
  unsigned out = 0;
  for (unsigned i = 0; i < length; ++i)
    out |= (code >> i & 1) << (length - 1 - i);
  return out;
}

}  // namespace

std::unexpected<Error> corrupt(const char* why) {
  return fail({.code = ErrorCode::Corrupt,
               .message = std::string("a deflate stream in the patch is damaged: ") + why});
}

Result<Codes> Codes::build(const std::vector<unsigned>& lengths) {
  Codes out;
  std::array<unsigned, kMaxBits + 2> count{}, next{};
  for (const unsigned length : lengths)
    ++count[length];
  count[0] = 0;
  unsigned code = 0;
  for (unsigned bits = 1; bits <= kMaxBits; ++bits) {
    code = (code + count[bits - 1]) << 1;
    next[bits] = code;
    if (code + count[bits] > (1u << bits)) return corrupt("its codes overlap");
  }
  out.lengths_ = lengths;
  out.codes_.resize(lengths.size());
  for (const unsigned length : lengths)
    out.longest_ = std::max(out.longest_, length);
  out.symbols_.assign(std::size_t{1} << out.longest_, kNone);
  for (std::size_t symbol = 0; symbol < lengths.size(); ++symbol) {
    const unsigned length = lengths[symbol];
    if (length == 0) continue;
    const unsigned reversed = reverse(next[length]++, length);
    out.codes_[symbol] = static_cast<std::uint16_t>(reversed);
    for (std::size_t i = reversed; i < out.symbols_.size(); i += std::size_t{1} << length)
      out.symbols_[i] = static_cast<std::uint16_t>(symbol);
  }
  return out;
}

Result<unsigned> Codes::read(BitReader& in) const {
  const unsigned symbol = longest_ == 0 ? kNone : symbols_[in.peek(longest_)];
  if (symbol == kNone || lengths_[symbol] > in.left()) return corrupt("a code that is not there");
  in.drop(lengths_[symbol]);
  return symbol;
}

Status Codes::write(BitWriter& out, unsigned symbol) const {
  if (symbol >= lengths_.size() || lengths_[symbol] == 0)
    return corrupt("a code that is not there");
  out.put(codes_[symbol], lengths_[symbol]);
  return {};
}

Result<BlockCodes> fixed_codes() {
  std::vector<unsigned> lengths(288, 8);
  std::fill(lengths.begin() + 144, lengths.begin() + 256, 9u);
  std::fill(lengths.begin() + 256, lengths.begin() + 280, 7u);
  WEXLO_TRY(Codes literals, Codes::build(lengths));
  WEXLO_TRY(Codes distances, Codes::build(std::vector<unsigned>(30, 5)));
  return BlockCodes{std::move(literals), std::move(distances)};
}

Result<BlockCodes> codes_of(std::vector<unsigned> lengths, std::size_t literals) {
  const std::vector<unsigned> distances(lengths.begin() + static_cast<std::ptrdiff_t>(literals),
                                        lengths.end());
  lengths.resize(literals);
  WEXLO_TRY(Codes first, Codes::build(lengths));
  WEXLO_TRY(Codes second, Codes::build(distances));
  return BlockCodes{std::move(first), std::move(second)};
}

}  // namespace wexlo::deflate
