#include "recipe/way_back.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/delta.hpp"
#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "codec/settings.hpp"
#include "image/fragments.hpp"
#include "image/kernel.hpp"
#include "ramdisk/ramdisk.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kMagic = "wexlo way back 1\n";
constexpr int kPreset = 6, kSmallPreset = 1;  ///< the small one in its extreme form
constexpr std::size_t kSmall = 1u << 20;
/// Zeros to copy from: padding is the longest run of them in a stock image.
constexpr std::size_t kZeros = 1u << 20;

/// How a stream of the stock image comes back.
enum class Mode : std::uint8_t {
  Same = 0,    ///< the patched image's stream of a number, as it stands
  Packed = 1,  ///< packed again, by a setting that gave the stock bytes
  Whole = 2,   ///< carried in the difference, packed as it was
};

bool is_journals(const std::string& place) {
  return place == "wexlo" || place == kJournalPlace || place == kWayBackPlace;
}

newc::Archive without_journal(newc::Archive archive) {
  std::erase_if(archive.entries, [](const newc::Entry& entry) {
    return !entry.is_trailer() && is_journals(newc::place_of(entry.name()));
  });
  return archive;
}

void put_text(Bytes& out, View text) {
  put_varint(out, text.size());
  append(out, text);
}

Result<Bytes> take_text(View& in) {
  WEXLO_TRY(const std::uint64_t size, take_varint(in));
  if (size > in.size())
    return fail({.code = ErrorCode::Truncated, .message = "the way back is cut short"});
  Bytes out = to_bytes(in.first(size));
  in = in.subspan(size);
  return out;
}

bool same_setting(const Repacking& known, const Framing& framing) {
  return known.framing.level == framing.level && known.framing.variant == framing.variant &&
         known.framing.size_trailer == framing.size_trailer &&
         known.framing.header == framing.header;
}

/// What takes a stream's place in the patched image: blocks that nobody touched keep their bytes.
StockStream beside(const Unfolded& patched, Compression kind) {
  for (const ImageStream& stream : patched.streams)
    if (stream.compression == kind && kind == Compression::Lz4Legacy)
      return {stream.encoded.view(), stream.decoded.view()};
  return {};
}

void append_content(Bytes& out, const ImageStream& stream) {
  if (!stream.archive) return append(out, stream.decoded.view());
  Bytes content = newc::write(without_journal(*stream.archive));
  if (out.empty())
    out = std::move(content);
  else
    append(out, View(content));
}

/// What the difference counts from: all of the patched image that is the same once the journal is
/// in it, but for streams that come back as they stand.
Bytes source_of(const Unfolded& patched, const std::vector<bool>& same) {
  Bytes out;
  for (std::size_t i = 0; i < patched.streams.size(); ++i)
    if (!same[i]) append_content(out, patched.streams[i]);
  append(out, patched.rest.view());
  out.resize(out.size() + kZeros);
  return out;
}

/// A tail without the padding at its end, whose length follows from what stands before it. One with
/// a verified-boot footer is made anew with each change.
View meaningful(View tail) {
  const auto footer = verified::find_footer(tail);
  if (!footer || *footer) return {};
  std::size_t size = tail.size();
  while (size > 0 && (tail[size - 1] == std::byte{0} || tail[size - 1] == std::byte{0xff}))
    --size;
  return tail.first(size);
}

Error damaged(Error error) {
  if (is_of_this_run(error.code)) return error;
  error.message = "the way back in the image is damaged: " + error.message;
  error.file = "/" + std::string(kWayBackPlace);
  error.offset.reset();
  error.hint = "Use the stock image kept beside it: --stock FILE.";
  return error;
}

struct Row {
  Mode mode = Mode::Whole;
  std::uint64_t gap = 0;   ///< bytes between the stream before and this one
  std::uint64_t size = 0;  ///< unpacked (Packed), as it stands (Whole), number (Same)
  Compression compression = Compression::None;
  Framing framing;
};

void put_row(Bytes& out, const Row& row) {
  out.push_back(static_cast<std::byte>(row.mode));
  put_varint(out, row.gap);
  put_varint(out, row.size);
  if (row.mode != Mode::Packed) return;
  put_text(out, as_view(compression_name(row.compression)));
  put_varint(out, static_cast<std::uint64_t>(row.framing.level + 1));
  put_varint(out, static_cast<std::uint64_t>(row.framing.variant + 1));
  put_varint(out, row.framing.size_trailer ? 1 : 0);
  put_text(out, row.framing.header);
}

Result<Row> take_row(View& in) {
  if (in.empty())
    return fail({.code = ErrorCode::Truncated, .message = "the way back is cut short"});
  Row row{.mode = static_cast<Mode>(in.front())};
  in = in.subspan(1);
  WEXLO_TRY(row.gap, take_varint(in));
  WEXLO_TRY(row.size, take_varint(in));
  if (row.mode > Mode::Whole)
    return fail({.code = ErrorCode::BadValue, .message = "a stream of no known mode"});
  if (row.mode != Mode::Packed) return row;
  WEXLO_TRY(const Bytes name, take_text(in));
  const auto kind = compression_named(as_text(name));
  if (!kind) return fail({.code = ErrorCode::BadValue, .message = "no such compression"});
  row.compression = *kind;
  WEXLO_TRY(const std::uint64_t level, take_varint(in));
  WEXLO_TRY(const std::uint64_t variant, take_varint(in));
  WEXLO_TRY(const std::uint64_t trailer, take_varint(in));
  if (level > 1000 || variant > 1000)
    return fail({.code = ErrorCode::BadValue, .message = "a setting out of range"});
  row.framing.level = static_cast<int>(level) - 1;
  row.framing.variant = static_cast<int>(variant) - 1;
  row.framing.size_trailer = trailer == 1;
  WEXLO_TRY(row.framing.header, take_text(in));
  return row;
}

}  // namespace

Result<std::optional<Journal>> find_journal(const Image& image, const Context& context) {
  for (const boot::RamdiskPart& part : boot::ramdisk_parts(image)) {
    const auto ramdisk = parse_ramdisk(part.bytes, decode_limit(context));
    if (!ramdisk) continue;
    WEXLO_TRY(auto journal, read_journal(*ramdisk));
    if (journal) return journal;
  }
  return std::nullopt;
}

Unfolded unfold(const Image& image, const std::vector<OpenPart>& ramdisks, Side side,
                const Context& context) {
  Unfolded out;
  Bytes rest;
  for (const Section& section : image.sections()) {
    if (section.name == "kernel" && !section.bytes.empty()) {
      const auto body = kernel::open_body(section.bytes, decode_limit(context));
      if (body && !body->inside && body->compression != Compression::None) {
        out.streams.push_back({section.offset + body->begin,
                               section.bytes.part(body->begin, body->end - body->begin),
                               body->compression,
                               body->framing,
                               body->decoded,
                               {}});
        append(rest, section.bytes.view().subspan(body->end));
        continue;
      }
    }
    // Sizes in the table follow the ramdisks.
    if (section.name != "ramdisk" && section.name != "vendor_ramdisk" &&
        section.name != "vendor_ramdisk_table")
      append(rest, section.bytes.view());
  }
  for (const OpenPart& one : ramdisks) {
    append(rest, one.part->rest.view());
    if (one.ramdisk == nullptr) {
      append(rest, one.part->bytes.view());
      continue;
    }
    std::uint64_t at = one.part->offset + one.part->header.size();
    for (const RamdiskSegment& segment : one.ramdisk->segments) {
      at += segment.gap.size();
      const bool packed_anew = side == Side::Patched && segment.touched;
      out.streams.push_back({at, packed_anew ? Blob() : segment.encoded, segment.compression,
                             segment.framing, segment.decoded, segment.archive});
      at += segment.encoded.size();
    }
    append(rest, one.ramdisk->tail.view());
  }
  append(rest, meaningful(image.tail().view()));
  std::ranges::stable_sort(out.streams, {}, &ImageStream::offset);
  out.rest = Blob(std::move(rest));
  return out;
}

Unfolded unfold(const Image& image, const Context& context) {
  const auto parts = boot::ramdisk_parts(image);
  std::vector<std::optional<Ramdisk>> ramdisks(parts.size());
  std::vector<OpenPart> open;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    auto ramdisk = parse_ramdisk(parts[i].bytes, decode_limit(context));
    if (ramdisk) ramdisks[i] = std::move(*ramdisk);
    open.push_back({&parts[i], ramdisks[i] ? &*ramdisks[i] : nullptr});
  }
  return unfold(image, open, Side::Stock, context);
}

Result<MadeWayBack> make_way_back(const Blob& stock_bytes, const Unfolded& stock,
                                  const Unfolded& patched, bool whole, TaskGroup& tasks,
                                  const Context& context) {
  MadeWayBack out;
  std::vector<bool> same(patched.streams.size());
  Bytes rows, target;
  std::uint64_t at = 0;
  for (const ImageStream& stream : stock.streams) {
    const View encoded = stream.encoded.view();
    Row row{.gap = stream.offset - at};
    append(target, stock_bytes.view().subspan(at, row.gap));
    at = stream.offset + encoded.size();
    for (std::size_t i = 0; i < patched.streams.size() && row.mode != Mode::Same; ++i)
      if (equal(patched.streams[i].encoded.view(), encoded)) {
        row.mode = Mode::Same;
        row.size = i;
        same[i] = true;
      }
    if (row.mode == Mode::Whole) {
      WEXLO_CHECK(check_stop(context));
      const Setting setting = whole && stream.compression != Compression::None
                                  ? Setting{}
                                  : find_setting(stream.compression, stream.decoded.view(), encoded,
                                                 stream.framing, context);
      if (setting.proof != Proof::None) {
        row = {Mode::Packed, row.gap, stream.decoded.size(), stream.compression, setting.framing};
        append(target, stream.decoded.view());
      } else {
        row.size = encoded.size();
        append(target, encoded);
      }
      if (!whole) out.settings.emplace(encoded.data(), setting);
      if (setting.proof == Proof::Start)
        out.repackings.push_back(std::make_shared<Repacking>(
            Repacking{stream.compression, setting.framing, stream.decoded, stream.encoded}));
    }
    put_row(rows, row);
  }
  append(target, stock_bytes.view().subspan(at));
  for (const auto& one : out.repackings)
    tasks.submit(0, [one, near = beside(patched, one->compression), &context]() -> Status {
      const auto again = encode(one->compression, one->decoded.view(), one->framing, context, near);
      one->same = again && equal(*again, one->encoded.view());
      return check_stop(context);
    });
  Bytes plain = to_bytes(kMagic);
  put_varint(plain, stock.streams.size());
  append(plain, View(rows));
  append(plain, View(make_delta(source_of(patched, same), target)));
  target = {};
  // Mostly what was packed before, if it is large: a denser setting would bring nothing.
  const bool small = plain.size() <= kSmall;  // a large dictionary only costs time then
  WEXLO_TRY(out.carried,
            encode(Compression::Xz, plain,
                   {.level = small ? kSmallPreset : kPreset, .variant = small ? 1 : 0}, context));
  return out;
}

namespace {

using Known = std::vector<std::shared_ptr<Repacking>>;

/// What a journal may make this program hold: a stock image unpacked, whatever the way back says.
std::uint64_t most_unfolded(const Journal& journal, const Context& context) {
  return decode_limit(context).bytes + std::min<std::uint64_t>(journal.stock_size, kMaxImage);
}

/// The rows at the front of the way back. @param streams  of the patched image
Result<std::vector<Row>> take_rows(View& in, std::size_t streams) {
  WEXLO_TRY(const std::uint64_t count, take_varint(in));
  if (count > in.size()) return fail({.code = ErrorCode::Truncated, .message = "it is cut short"});
  std::vector<Row> rows;
  for (std::uint64_t i = 0; i < count; ++i) {
    WEXLO_TRY(Row row, take_row(in));
    if (row.mode == Mode::Same && row.size >= streams)
      return fail({.code = ErrorCode::OutOfRange, .message = "a stream that is not there"});
    rows.push_back(std::move(row));
  }
  return rows;
}

/// A stock stream's bytes from what the difference gave for it.
Result<Bytes> stream_bytes(const Row& row, View content, const Unfolded& from, const Known& known,
                           const Context& context) {
  if (row.mode == Mode::Whole || row.compression == Compression::None) return to_bytes(content);
  const auto before = std::ranges::find_if(known, [&](const auto& one) {
    return one->same && one->compression == row.compression && same_setting(*one, row.framing) &&
           equal(one->decoded.view(), content);
  });
  if (before != known.end()) return to_bytes((*before)->encoded.view());
  return encode(row.compression, content, row.framing, context, beside(from, row.compression));
}

/// The stock file, piece by piece. @param target  what the difference gave
Result<Bytes> put_together(const std::vector<Row>& rows, View target, const Unfolded& from,
                           std::uint64_t stock_size, const Known& known, const Context& context) {
  Bytes out;
  const auto cut_short = [] {
    return fail({.code = ErrorCode::Truncated, .message = "it is cut short"});
  };
  for (const Row& row : rows) {
    const std::uint64_t size = row.mode == Mode::Same ? 0 : row.size;
    if (row.gap > target.size() || size > target.size() - row.gap) return cut_short();
    append(out, target.first(row.gap));
    const View content = target.subspan(row.gap, size);
    target = target.subspan(row.gap + size);
    if (row.mode == Mode::Same) {
      append(out, from.streams[row.size].encoded.view());
    } else {
      WEXLO_TRY(const Bytes bytes, stream_bytes(row, content, from, known, context));
      append(out, View(bytes));
    }
    if (out.size() > stock_size) break;  // it is not the stock image, whatever follows
  }
  append(out, target);
  return out;
}

}  // namespace

Result<Blob> follow_way_back(const LoadedImage& patched, const Journal& journal,
                             const Context& context,
                             const std::vector<std::shared_ptr<Repacking>>& known) {
  Blob carried;
  for (const boot::RamdiskPart& part : boot::ramdisk_parts(*patched.image)) {
    const auto ramdisk = parse_ramdisk(part.bytes, decode_limit(context));
    const auto place = ramdisk ? find_entry(*ramdisk, kWayBackPlace) : std::nullopt;
    if (place) carried = content_of(*ramdisk, *place);
  }
  if (carried.empty())
    return fail({.code = ErrorCode::NoWayBack,
                 .message = fmt::format(
                     "the image does not carry its way back: {}",
                     journal.way_back.empty() ? "it was taken out of it" : journal.way_back),
                 .hint = "Give the stock image: --stock FILE (a kit keeps it in stock/)."});
  const std::uint64_t most = most_unfolded(journal, context);
  const auto plain = decode(Compression::Xz, carried.view(), {.bytes = most, .held = context.held});
  if (!plain) return fail(damaged(plain.error()));
  View in = plain->bytes.view();
  if (!as_text(in).starts_with(kMagic))
    return fail(damaged({.code = ErrorCode::Unsupported, .message = "it is of another format"}));
  in = in.subspan(kMagic.size());
  const Unfolded from = unfold(*patched.image, context);
  const auto rows = take_rows(in, from.streams.size());
  if (!rows) return fail(damaged(rows.error()));
  std::vector<bool> same(from.streams.size());
  for (const Row& row : *rows)
    if (row.mode == Mode::Same) same[row.size] = true;
  const auto target = apply_delta(source_of(from, same), in, most);
  if (!target) return fail(damaged(target.error()));
  auto out = put_together(*rows, *target, from, journal.stock_size, known, context);
  if (!out) return fail(damaged(std::move(out).error()));
  const std::string sha256 = sha256_hex(*out);
  if (sha256 != journal.stock_sha256)
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "what the way back leads to is not the stock image",
                 .expected = journal.stock_sha256,
                 .found = sha256,
                 .hint = "The image was changed after it was patched. Give the stock image: "
                         "--stock FILE."});
  return Blob(std::move(*out));
}

Result<Blob> flags_as_signed(const Image& patched) {
  Image vbmeta = patched;
  const std::uint64_t known = verified::HashtreeDisabled | verified::VerificationDisabled;
  const std::uint64_t now = vbmeta.number("flags");
  if (verified::own_hash_matches(vbmeta).value_or(false))
    return fail({.code = ErrorCode::NoWayBack,
                 .message = "the vbmeta's own hash is true: its flags are as they were signed",
                 .hint = "There is nothing to restore."});
  for (std::uint64_t flags = 0; flags <= known; ++flags) {
    WEXLO_CHECK(vbmeta.set_number("flags", (now & ~known) | flags));
    if (verified::own_hash_matches(vbmeta).value_or(false)) return Blob(vbmeta.write());
  }
  return fail({.code = ErrorCode::NoWayBack,
               .message = vbmeta.number("algorithm_type") == 0
                              ? "the vbmeta is not signed: nothing in it tells the flags it had"
                              : "with no setting of its flags is the vbmeta's own hash true: more "
                                "than its flags was changed",
               .hint = "Give the stock image: --stock FILE (a kit keeps it in stock/)."});
}

}  // namespace wexlo
