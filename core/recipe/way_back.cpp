/// Following the way back, and finding out whether it leads to the stock image.

#include <fmt/format.h>

#include <algorithm>

#include "base/delta.hpp"
#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "recipe/way_back.hpp"
#include "verified/older_signature.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {

Result<std::optional<Journal>> find_journal(const LoadedImage& image, const Context& context) {
  WEXLO_TRY(const ReadRamdisks ramdisks, image.decoded->ramdisks(context));
  for (const ReadRamdisk& one : *ramdisks) {
    if (!one.ramdisk) continue;
    WEXLO_TRY(auto journal, read_journal(*one.ramdisk));
    if (journal) return journal;
  }
  return std::nullopt;
}

namespace {

bool same_setting(const Repacking& known, const Framing& framing) {
  return known.framing.level == framing.level && known.framing.variant == framing.variant &&
         known.framing.size_trailer == framing.size_trailer &&
         known.framing.header == framing.header;
}

Error damaged(Error error) {
  if (is_of_this_run(error.code)) return error;
  error.message = "the way back in the image is damaged: " + error.message;
  error.file = "/" + std::string(kWayBackPlace);
  error.offset.reset();
  error.hint = "Use the stock image kept beside it: --stock FILE.";
  return error;
}

using Known = std::vector<std::shared_ptr<Repacking>>;

/// What a journal may make this program hold: a stock image unpacked, whatever the way back says.
std::uint64_t most_unfolded(const Journal& journal, const Context& context) {
  return decode_limit(context).bytes + std::min<std::uint64_t>(journal.stock_size, kMaxImage);
}

/// The rows at the front of the way back. @param streams  of the patched image
Result<std::vector<WayBackRow>> take_rows(View& in, std::size_t streams) {
  WEXLO_TRY(const std::uint64_t count, take_varint(in));
  if (count > in.size()) return fail({.code = ErrorCode::Truncated, .message = "it is cut short"});
  std::vector<WayBackRow> rows;
  for (std::uint64_t i = 0; i < count; ++i) {
    WEXLO_TRY(WayBackRow row, take_row(in));
    if (row.mode == WayBackMode::Same && row.size >= streams)
      return fail({.code = ErrorCode::OutOfRange, .message = "a stream that is not there"});
    rows.push_back(std::move(row));
  }
  return rows;
}

/// A stock stream's bytes from what the difference gave for it.
Result<Bytes> stream_bytes(const WayBackRow& row, View content, const Unfolded& from,
                           const Context& context) {
  if (row.mode == WayBackMode::Whole || row.compression == Compression::None)
    return to_bytes(content);
  return encode(row.compression, content, row.framing, context, beside(from, row.compression));
}

/// The stock file, piece by piece. @param target  what the difference gave
Result<Bytes> put_together(const std::vector<WayBackRow>& rows, View target, const Unfolded& from,
                           std::uint64_t stock_size, const Context& context) {
  Bytes out;
  out.reserve(static_cast<std::size_t>(std::min<std::uint64_t>(stock_size, 256u << 20)));
  const auto cut_short = [] {
    return fail({.code = ErrorCode::Truncated, .message = "it is cut short"});
  };
  for (const WayBackRow& row : rows) {
    const std::uint64_t size = row.mode == WayBackMode::Same ? 0 : row.size;
    if (row.gap > target.size() || size > target.size() - row.gap) return cut_short();
    append(out, target.first(row.gap));
    const View content = target.subspan(row.gap, size);
    target = target.subspan(row.gap + size);
    if (row.mode == WayBackMode::Same) {
      append(out, from.streams[row.size].encoded.view());
    } else {
      WEXLO_TRY(const Bytes bytes, stream_bytes(row, content, from, context));
      append(out, View(bytes));
    }
    if (out.size() > stock_size) break;  // it is not the stock image, whatever follows
  }
  append(out, target);
  return out;
}

/// The stock image's pieces, in order, as the difference has to give them; nullopt: it leads
/// elsewhere, or only packing a stream again would tell.
std::optional<std::vector<View>> wanted_pieces(const std::vector<WayBackRow>& rows,
                                               const Unfolded& from, View stock,
                                               const Known& known) {
  std::vector<View> out;
  for (const WayBackRow& row : rows) {
    if (row.gap > stock.size()) return std::nullopt;
    out.push_back(stock.first(row.gap));
    stock = stock.subspan(row.gap);
    View encoded, given;
    if (row.mode == WayBackMode::Same) {
      encoded = from.streams[row.size].encoded.view();
    } else if (row.mode == WayBackMode::Whole || row.compression == Compression::None) {
      encoded = given = stock.first(std::min<std::size_t>(row.size, stock.size()));
      if (given.size() != row.size) return std::nullopt;
    } else {
      const auto before = std::ranges::find_if(known, [&](const auto& one) {
        return one->same && one->compression == row.compression &&
               same_setting(*one, row.framing) && one->decoded.size() == row.size &&
               starts_with(stock, one->encoded.view());
      });
      if (before == known.end()) return std::nullopt;
      encoded = (*before)->encoded.view();
      given = (*before)->decoded.view();
    }
    if (!starts_with(stock, encoded)) return std::nullopt;
    out.push_back(given);
    stock = stock.subspan(encoded.size());
  }
  out.push_back(stock);
  return out;
}

/// The way back that an image carries, taken apart.
struct OpenWayBack {
  Blob plain;
  View delta;  ///< in `plain`
  std::vector<WayBackRow> rows;
  Unfolded from;
  Bytes source;  ///< what `delta` counts from
};

Result<Blob> carried_in(const LoadedImage& patched, const Journal& journal,
                        const Context& context) {
  Blob carried;
  WEXLO_TRY(const ReadRamdisks ramdisks, patched.decoded->ramdisks(context));
  for (const auto& [part, ramdisk, trouble] : *ramdisks) {
    const auto place = ramdisk ? find_entry(*ramdisk, kWayBackPlace) : std::nullopt;
    if (place) carried = content_of(*ramdisk, *place);
  }
  if (!carried.empty()) return carried;
  return fail({.code = ErrorCode::NoWayBack,
               .message = fmt::format(
                   "the image does not carry its way back: {}",
                   journal.way_back.empty() ? "it was taken out of it" : journal.way_back),
               .hint = "Give the stock image: --stock FILE (a kit keeps it in stock/)."});
}

Result<OpenWayBack> open_way_back(const LoadedImage& patched, const Journal& journal,
                                  const Context& context, bool signature_renewed = false) {
  WEXLO_TRY(const Blob carried, carried_in(patched, journal, context));
  OpenWayBack out;
  auto plain = decode(Compression::Xz, carried.view(),
                      {.bytes = most_unfolded(journal, context), .held = context.held});
  if (!plain) return fail(damaged(std::move(plain).error()));
  out.plain = plain->bytes;
  out.delta = out.plain.view();
  if (!as_text(out.delta).starts_with(kWayBackMagic))
    return fail(damaged({.code = ErrorCode::Unsupported, .message = "it is of another format"}));
  out.delta = out.delta.subspan(kWayBackMagic.size());
  WEXLO_TRY(out.from, unfold(patched, context, signature_renewed));
  auto rows = take_rows(out.delta, out.from.streams.size());
  if (!rows) return fail(damaged(std::move(rows).error()));
  out.rows = std::move(*rows);
  std::vector<bool> same(out.from.streams.size());
  for (const WayBackRow& row : out.rows)
    if (row.mode == WayBackMode::Same) same[row.size] = true;
  out.source = way_back_source(out.from, same);
  return out;
}

Result<Blob> walk_back(const OpenWayBack& way, const Journal& journal, const Context& context) {
  const auto target = apply_delta(way.source, way.delta, most_unfolded(journal, context));
  if (!target) return fail(damaged(target.error()));
  auto out = put_together(way.rows, *target, way.from, journal.stock_size, context);
  if (!out) return fail(damaged(std::move(out).error()));
  return Blob(std::move(*out));
}

std::unexpected<Error> leads_elsewhere() {
  return fail({.code = ErrorCode::NoWayBack, .message = "it does not lead to the stock image"});
}

/// Bytes that have to come, in pieces that need not be those they come in.
class ExpectedBytes {
 public:
  explicit ExpectedBytes(const std::vector<View>& pieces) : pieces_(pieces) {}

  Status take(View given) {
    while (!given.empty()) {
      if (all_came()) return leads_elsewhere();
      const View wanted = pieces_[piece_].subspan(at_);
      const std::size_t size = std::min(given.size(), wanted.size());
      if (!equal(given.first(size), wanted.first(size))) return leads_elsewhere();
      given = given.subspan(size);
      at_ += size;
    }
    return {};
  }
  /// Passes over what is empty.
  bool all_came() {
    for (; piece_ < pieces_.size() && at_ == pieces_[piece_].size(); ++piece_)
      at_ = 0;
    return piece_ == pieces_.size();
  }

 private:
  const std::vector<View>& pieces_;
  std::size_t piece_ = 0, at_ = 0;  ///< the piece, and where in it
};

}  // namespace

Status check_way_back(const LoadedImage& patched, const Journal& journal, const Blob& stock,
                      const std::vector<std::shared_ptr<Repacking>>& known,
                      const Context& context) {
  WEXLO_TRY(const OpenWayBack way, open_way_back(patched, journal, context));
  const auto pieces = wanted_pieces(way.rows, way.from, stock.view(), known);
  if (!pieces) {
    WEXLO_TRY(const Blob back, walk_back(way, journal, context));
    return equal(back.view(), stock.view()) ? Status{} : leads_elsewhere();
  }
  ExpectedBytes expected(*pieces);
  WEXLO_CHECK(apply_delta(way.source, way.delta, most_unfolded(journal, context),
                          [&](View given) { return expected.take(given); }));
  return expected.all_came() ? Status{} : leads_elsewhere();
}

namespace {

Result<Blob> followed(const LoadedImage& patched, const Journal& journal, const Context& context,
                      bool signature_renewed) {
  WEXLO_TRY(const OpenWayBack way, open_way_back(patched, journal, context, signature_renewed));
  WEXLO_TRY(Blob out, walk_back(way, journal, context));
  const std::string sha256 = sha256_hex(out);
  if (sha256 != journal.stock_sha256)
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "what the way back leads to is not the stock image",
                 .expected = journal.stock_sha256,
                 .found = sha256,
                 .hint = "The image was changed after it was patched. Give the stock image: "
                         "--stock FILE."});
  return out;
}

}  // namespace

Result<Blob> follow_way_back(const LoadedImage& patched, const Journal& journal,
                             const Context& context) {
  auto out = followed(patched, journal, context, false);
  if (out || is_of_this_run(out.error().code)) return out;
  // Whoever made the older signature again with a key of their own changed nothing else.
  const View tail = patched.image->tail().view();
  if (!verified::older_signature(tail, {})) return out;
  auto other = followed(patched, journal, context, true);
  return other || is_of_this_run(other.error().code) ? other : out;
}

Result<Blob> flags_as_signed(const Image& patched) {
  Image vbmeta = patched;
  const std::uint64_t known = verified::HashtreeDisabled | verified::VerificationDisabled;
  const std::uint64_t now = vbmeta.number("flags");
  if (verified::own_hash_matches(vbmeta).value_or(false))
    return fail({.code = ErrorCode::NoWayBack,
                 .message = "the vbmeta's own hash matches: its flags are as they were signed",
                 .hint = "There is nothing to restore."});
  for (std::uint64_t flags = 0; flags <= known; ++flags) {
    WEXLO_CHECK(vbmeta.set_number("flags", (now & ~known) | flags));
    if (!verified::own_hash_matches(vbmeta).value_or(false)) continue;
    // A maker's digest before or behind the struct follows its flags.
    const Bytes before = patched.write();
    WEXLO_CHECK(verified::rebuild_tail(vbmeta, before));
    return Blob(vbmeta.write());
  }
  return fail(
      {.code = ErrorCode::NoWayBack,
       .message = vbmeta.number("algorithm_type") == 0
                      ? "the vbmeta is not signed: nothing in it tells the flags it had"
                      : "with no setting of its flags does the vbmeta's own hash match: more "
                        "than its flags was changed",
       .hint = "Give the stock image: --stock FILE (a kit keeps it in stock/)."});
}

}  // namespace wexlo
