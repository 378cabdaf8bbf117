#include "base/delta.hpp"

#include <algorithm>

namespace wexlo {
namespace {

/// Shorter equal stretches are not looked for: naming one takes about as many bytes.
constexpr std::size_t kBlock = 32;
/// From here on (64 MiB) memory counts for more than the last equal stretch.
constexpr std::size_t kManyBlocks = (64u << 20) / kBlock;
constexpr std::uint64_t kFactor = 0x9e3779b97f4a7c15;

/// A hash that moves on by one byte at a time.
class Rolling {
 public:
  explicit Rolling(const std::byte* at) {
    for (std::size_t i = 0; i + 1 < kBlock; ++i)
      leaving_ *= kFactor;
    for (std::size_t i = 0; i < kBlock; ++i)
      value_ = value_ * kFactor + byte(at[i]);
  }
  void move(std::byte out, std::byte in) {
    value_ = (value_ - byte(out) * leaving_) * kFactor + byte(in);
  }
  [[nodiscard]] std::uint64_t value() const { return value_ ^ (value_ >> 29); }

 private:
  static std::uint64_t byte(std::byte b) { return std::to_integer<std::uint64_t>(b) + 1; }
  std::uint64_t value_ = 0, leaving_ = 1;
};

/// Where in the source blocks of a hash are: the first of each.
class Index {
 public:
  explicit Index(View source) : source_(source) {
    const std::size_t blocks = source.size() / kBlock;
    // Of large sources the table is filled to three quarters at most, of others to half.
    const std::size_t wanted = blocks < kManyBlocks ? blocks * 2 : blocks + blocks / 3;
    slots_.resize(std::bit_ceil(std::max<std::size_t>(16, wanted)), kNone);
    for (std::size_t i = 0; i < blocks; ++i) {
      std::size_t slot = Rolling(source.data() + i * kBlock).value() & (slots_.size() - 1);
      for (int tries = 0; tries < 8 && slots_[slot] != kNone; ++tries) {
        if (same(i * kBlock, slots_[slot] * kBlock)) break;
        slot = (slot + 1) & (slots_.size() - 1);
      }
      if (slots_[slot] == kNone) slots_[slot] = static_cast<std::uint32_t>(i);
    }
  }
  /// A block's place that is equal to `block`, or npos.
  [[nodiscard]] std::size_t find(std::uint64_t hash, const std::byte* block) const {
    std::size_t slot = hash & (slots_.size() - 1);
    for (int tries = 0; tries < 9 && slots_[slot] != kNone; ++tries) {
      const std::size_t at = std::size_t{slots_[slot]} * kBlock;
      if (std::memcmp(source_.data() + at, block, kBlock) == 0) return at;
      slot = (slot + 1) & (slots_.size() - 1);
    }
    return std::string::npos;
  }

 private:
  static constexpr std::uint32_t kNone = 0xffffffff;
  [[nodiscard]] bool same(std::size_t a, std::size_t b) const {
    return std::memcmp(source_.data() + a, source_.data() + b, kBlock) == 0;
  }
  View source_;
  std::vector<std::uint32_t> slots_;
};

}  // namespace

void put_varint(Bytes& out, std::uint64_t value) {
  while (value >= 0x80) {
    out.push_back(static_cast<std::byte>(value | 0x80));
    value >>= 7;
  }
  out.push_back(static_cast<std::byte>(value));
}

Result<std::uint64_t> take_varint(View& in) {
  std::uint64_t value = 0;
  for (unsigned shift = 0; shift < 64; shift += 7) {
    if (in.empty()) return fail({.code = ErrorCode::Truncated, .message = "a number is cut short"});
    const auto byte = std::to_integer<std::uint64_t>(in.front());
    in = in.subspan(1);
    value |= (byte & 0x7f) << shift;
    if (byte < 0x80) return value;
  }
  return fail({.code = ErrorCode::BadValue, .message = "a number of more than 64 bits"});
}

/// Pairs of (new bytes, stretch copied), each with its length; a stretch's place counts from the
/// end of the one before, so that an insertion costs few bytes.
Bytes make_delta(View source, View target) {
  Bytes out;
  put_varint(out, target.size());
  const Index index(source);
  std::size_t literal = 0;   // where the new bytes before the next stretch begin
  std::size_t expected = 0;  // where the source goes on after the last stretch
  const auto emit = [&](std::size_t at, std::size_t from, std::size_t size) {
    put_varint(out, at - literal);
    append(out, target.subspan(literal, at - literal));
    put_varint(out, size);
    // Zigzag: small differences of either sign stay small.
    const auto step = static_cast<std::int64_t>(from) - static_cast<std::int64_t>(expected);
    put_varint(out,
               (static_cast<std::uint64_t>(step) << 1) ^ static_cast<std::uint64_t>(step >> 63));
    expected = from + size;
    literal = at + size;
  };
  std::size_t at = 0;
  while (source.size() >= kBlock && at + kBlock <= target.size()) {
    Rolling hash(target.data() + at);
    std::size_t from = std::string::npos;
    while (true) {
      // What was replaced by as many bytes: the source goes on in step.
      const std::size_t in_step = expected + (at - literal);
      if (in_step + kBlock <= source.size() &&
          std::memcmp(source.data() + in_step, target.data() + at, kBlock) == 0)
        from = in_step;
      else
        from = index.find(hash.value(), target.data() + at);
      if (from != std::string::npos || at + kBlock == target.size()) break;
      hash.move(target[at], target[at + kBlock]);
      ++at;
    }
    if (from == std::string::npos) break;
    std::size_t size = kBlock;
    while (at + size < target.size() && from + size < source.size() &&
           target[at + size] == source[from + size])
      ++size;
    while (at > literal && from > 0 && target[at - 1] == source[from - 1])
      --at, --from, ++size;
    emit(at, from, size);
    at = literal;
  }
  put_varint(out, target.size() - literal);
  append(out, target.subspan(literal));
  return out;
}

Status apply_delta(View source, View delta, std::uint64_t most, const DeltaSink& sink) {
  const auto out_of_range = [](std::string_view what) {
    return fail({.code = ErrorCode::OutOfRange, .message = std::string(what)});
  };
  WEXLO_TRY(const std::uint64_t total, take_varint(delta));
  if (total > most) return out_of_range("more would come out than a stock image has");
  std::uint64_t left = total, expected = 0;
  while (true) {
    WEXLO_TRY(const std::uint64_t fresh, take_varint(delta));
    if (fresh > delta.size() || fresh > left) return out_of_range("new bytes run past the end");
    WEXLO_CHECK(sink(delta.first(fresh)));
    left -= fresh;
    delta = delta.subspan(fresh);
    if (delta.empty()) break;
    WEXLO_TRY(const std::uint64_t size, take_varint(delta));
    WEXLO_TRY(const std::uint64_t zigzag, take_varint(delta));
    const std::uint64_t from = expected + ((zigzag >> 1) ^ (0 - (zigzag & 1)));
    if (from > source.size() || size > source.size() - from || size > left)
      return out_of_range("a stretch runs past the source");
    WEXLO_CHECK(sink(source.subspan(from, size)));
    left -= size;
    expected = from + size;
  }
  if (left != 0) return out_of_range("fewer bytes come out than promised");
  return {};
}

Result<Bytes> apply_delta(View source, View delta, std::uint64_t most) {
  Bytes out;
  View rest = delta;
  // Room for all of it at once, but not for whatever a damaged delta promises.
  constexpr std::uint64_t kMostReserved = 256u << 20;
  if (const auto total = take_varint(rest))
    out.reserve(static_cast<std::size_t>(std::min({*total, most, kMostReserved})));
  WEXLO_CHECK(apply_delta(source, delta, most, [&out](View piece) -> Status {
    append(out, piece);
    return {};
  }));
  return out;
}

}  // namespace wexlo
