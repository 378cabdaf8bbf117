#include "firmware/puffdiff.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/deflate_tokens.hpp"
#include "payload_manifest.pb.h"

namespace wexlo {
namespace {

constexpr std::string_view kPuffMagic = "PUF1";
constexpr std::size_t kFixed = 8;
/// Tokens take more room than the stream they spell: literals of a dense one at most eightfold.
constexpr std::uint64_t kMostTimes = 64, kMostAtLeast = 16u << 20;
constexpr std::uint32_t kBsdiff = 0;

Error bad_puff(std::string message) {
  return {.code = ErrorCode::Corrupt,
          .message = "the deflate-aware patch is damaged: " + std::move(message),
          .hint = "Fetch the package again; compare its digest with the source's."};
}

/// Where the streams lie in the bytes, and where their tokens in the spelled-out form.
struct PuffLayout {
  std::vector<BitRange> deflates;  ///< bits
  std::vector<BitRange> tokens;    ///< bytes
  std::uint64_t size = 0;          ///< bytes of the spelled-out form
};

/// @param most_bits  of the bytes themselves
Result<PuffLayout> layout_of(const manifest::StreamInfo& info, std::uint64_t most_bits,
                             std::uint64_t most) {
  PuffLayout out{.size = info.puff_length()};
  if (out.size > most) return fail(bad_puff("it spells out too much"));
  if (info.deflates_size() != info.puffs_size())
    return fail(bad_puff("its lists differ in length"));
  std::uint64_t bit = 0, at = 0;
  for (int i = 0; i < info.deflates_size(); ++i) {
    const BitRange deflate{info.deflates(i).offset(), info.deflates(i).length()};
    const BitRange tokens{info.puffs(i).offset() / 8, info.puffs(i).length() / 8};
    if (deflate.offset < bit || deflate.offset > most_bits ||
        deflate.size > most_bits - deflate.offset || tokens.offset < at ||
        tokens.offset > out.size || tokens.size > out.size - tokens.offset)
      return fail(bad_puff("its ranges are out of order"));
    bit = deflate.offset + deflate.size;
    at = tokens.offset + tokens.size;
    out.deflates.push_back(deflate);
    out.tokens.push_back(tokens);
  }
  return out;
}

/// The bytes between two streams: one that a stream shares with them gives its other bits only.
void append_between(Bytes& out, View in, std::uint64_t from, std::uint64_t to) {
  if (from == to) return;
  const std::uint64_t first = from / 8, last = (to + 7) / 8;
  const std::size_t begin = out.size();
  append(out, in.subspan(static_cast<std::size_t>(first), static_cast<std::size_t>(last - first)));
  if (to % 8 != 0) out.back() &= static_cast<std::byte>((1u << to % 8) - 1);
  if (from % 8 != 0) out[begin] >>= static_cast<int>(from % 8);
}

Result<Bytes> spell_out(View in, const PuffLayout& layout) {
  Bytes out;
  std::uint64_t bit = 0;
  for (std::size_t i = 0; i < layout.deflates.size(); ++i) {
    append_between(out, in, bit, layout.deflates[i].offset);
    if (out.size() != layout.tokens[i].offset) return fail(bad_puff("its places do not add up"));
    WEXLO_TRY(
        const Bytes tokens,
        tokens_of_deflate(in, layout.deflates[i], static_cast<std::size_t>(layout.tokens[i].size)));
    if (tokens.size() != layout.tokens[i].size)
      return fail(bad_puff("a stream of the older bytes is not as long as promised"));
    append(out, View(tokens));
    bit = layout.deflates[i].offset + layout.deflates[i].size;
  }
  append_between(out, in, bit, in.size() * 8);
  if (out.size() != layout.size) return fail(bad_puff("the older bytes are of another size"));
  return out;
}

/// Bits between two streams, given back from their bytes.
Status put_between(BitWriter& out, View bytes, std::uint64_t from, std::uint64_t to) {
  const std::uint64_t first = from / 8, last = (to + 7) / 8;
  if (from == to ? !bytes.empty() : bytes.size() != last - first)
    return fail(bad_puff("its places do not add up"));
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    const std::uint64_t begin = std::max(from, (first + i) * 8),
                        end = std::min(to, (first + i + 1) * 8);
    out.put(std::to_integer<std::uint32_t>(bytes[i]), static_cast<unsigned>(end - begin));
  }
  return {};
}

Result<Bytes> join(View spelled, const PuffLayout& layout) {
  Bytes out;
  BitWriter bits(out);
  std::uint64_t bit = 0, at = 0;
  for (std::size_t i = 0; i < layout.deflates.size(); ++i) {
    const BitRange deflate = layout.deflates[i], tokens = layout.tokens[i];
    WEXLO_CHECK(put_between(
        bits,
        spelled.subspan(static_cast<std::size_t>(at), static_cast<std::size_t>(tokens.offset - at)),
        bit, deflate.offset));
    WEXLO_CHECK(deflate_of_tokens(spelled.subspan(static_cast<std::size_t>(tokens.offset),
                                                  static_cast<std::size_t>(tokens.size)),
                                  bits));
    bit = deflate.offset + deflate.size;
    at = tokens.offset + tokens.size;
    // An extent may be rounded up to whole bytes: what is behind the last block is zero then.
    if (bits.size() < bit && bit - bits.size() < 8)
      bits.put(0, static_cast<unsigned>(bit - bits.size()));
    if (bits.size() != bit) return fail(bad_puff("a stream does not come out as long as promised"));
  }
  const View rest = spelled.subspan(static_cast<std::size_t>(at));
  if (!rest.empty()) WEXLO_CHECK(put_between(bits, rest, bit, (bit / 8 + rest.size()) * 8));
  bits.flush();
  return out;
}

}  // namespace

Status apply_puffdiff(View patch, View old, std::uint64_t most, const WriteBytes& write) {
  if (!as_text(patch).starts_with(kPuffMagic))
    return fail({.code = ErrorCode::BadMagic,
                 .message = "not a deflate-aware patch",
                 .expected = std::string(kPuffMagic),
                 .found = hex(patch.first(std::min<std::size_t>(4, patch.size())))});
  if (patch.size() < kFixed) return fail(bad_puff("its header is cut short"));
  const auto header_size = load<std::uint32_t, std::endian::big>(patch.data() + kPuffMagic.size());
  if (header_size > patch.size() - kFixed) return fail(bad_puff("its header is cut short"));
  manifest::PatchHeader header;
  if (!header.ParseFromArray(patch.data() + kFixed, static_cast<int>(header_size)))
    return fail(bad_puff("its header does not read"));
  if (header.type() != kBsdiff)
    return fail(
        {.code = ErrorCode::Unsupported,
         .message = fmt::format("the deflate-aware patch holds a patch of type {}", header.type()),
         .expected = "0 (bsdiff)",
         .hint = "Take the full package of the build."});
  const auto bound = [](std::uint64_t size) { return size * kMostTimes + kMostAtLeast; };
  WEXLO_TRY(const PuffLayout from, layout_of(header.src(), old.size() * 8, bound(old.size())));
  WEXLO_TRY(const PuffLayout to, layout_of(header.dst(), most * 8, bound(most)));
  WEXLO_TRY(const Bytes spelled_old, spell_out(old, from));
  Bytes spelled;
  WEXLO_CHECK(apply_bsdiff(patch.subspan(kFixed + header_size), old_bytes(spelled_old), to.size,
                           write_behind(spelled)));
  if (spelled.size() != to.size) return fail(bad_puff("it gives another size than it promises"));
  WEXLO_TRY(const Bytes made, join(spelled, to));
  if (made.size() > most)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the patch gives more than its destination holds",
                 .expected = fmt::format("at most {} bytes", most),
                 .found = fmt::format("{} bytes", made.size())});
  return write(made);
}

}  // namespace wexlo
