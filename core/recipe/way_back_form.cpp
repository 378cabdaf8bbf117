#include "recipe/way_back_form.hpp"

#include <algorithm>

#include "base/delta.hpp"
#include "image/kernel.hpp"
#include "image/sealed_block.hpp"
#include "image/tail.hpp"
#include "recipe/journal.hpp"
#include "verified/older_signature.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

/// Zeros to copy from: padding is the longest run of them in a stock image.
constexpr std::size_t kZeros = 1u << 20;

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

void append_content(Bytes& out, const ImageStream& stream) {
  if (stream.archive)
    newc::write(out, without_journal(*stream.archive));
  else
    append(out, stream.decoded.view());
}

bool is_padding(std::byte one) {
  return one == std::byte{0} || one == std::byte{0xff};
}

/// What of a tail no change touches: not the padding, whose length follows from what stands before
/// it, and neither a verified-boot footer, what leads up to it, nor a sealed block: these are made
/// anew with each change. Nor is an older signature that was, or will be.
Blob meaningful(const Blob& tail, bool signature_renewed) {
  const View all = tail.view();
  // Mostly the footer ends it, and nothing is left to look for.
  if (all.size() >= verified::kFooterSize &&
      verified::parse_footer(all.last(static_cast<std::size_t>(verified::kFooterSize))))
    return {};
  std::size_t begin = 0, block = tail.size();
  for (const TailItem& item : tail_items(all)) {
    const auto end = static_cast<std::size_t>(item.offset + item.size);
    if (item.kind == TailKind::Footer ||
        (item.kind == TailKind::OlderSignature && signature_renewed))
      begin = end;
    if (item.kind == TailKind::SealedBlock) block = end - static_cast<std::size_t>(item.size);
  }
  View before = all.subspan(begin, std::max(block, begin) - begin);
  while (!before.empty() && is_padding(before.back()))
    before = before.first(before.size() - 1);
  Bytes out = to_bytes(before);
  if (block < tail.size()) append(out, all.subspan(block + sealed_block::kSize));
  while (!out.empty() && is_padding(out.back()))
    out.pop_back();
  return Blob(std::move(out));
}

}  // namespace

void put_row(Bytes& out, const WayBackRow& row) {
  out.push_back(static_cast<std::byte>(row.mode));
  put_varint(out, row.gap);
  put_varint(out, row.size);
  if (row.mode != WayBackMode::Packed) return;
  put_text(out, as_view(compression_name(row.compression)));
  put_varint(out, static_cast<std::uint64_t>(row.framing.level + 1));
  put_varint(out, static_cast<std::uint64_t>(row.framing.variant + 1));
  put_varint(out, row.framing.size_trailer ? 1 : 0);
  put_text(out, row.framing.header);
}

Result<WayBackRow> take_row(View& in) {
  if (in.empty())
    return fail({.code = ErrorCode::Truncated, .message = "the way back is cut short"});
  WayBackRow row{.mode = static_cast<WayBackMode>(in.front())};
  in = in.subspan(1);
  WEXLO_TRY(row.gap, take_varint(in));
  WEXLO_TRY(row.size, take_varint(in));
  if (row.mode > WayBackMode::Whole)
    return fail({.code = ErrorCode::BadValue, .message = "a stream of no known mode"});
  if (row.mode != WayBackMode::Packed) return row;
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

Unfolded unfold(const Image& image, const std::vector<OpenPart>& ramdisks, Side side,
                const Context& context, bool signature_renewed) {
  Unfolded out;
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
        out.rest.push_back(section.bytes.rest(body->end));
        continue;
      }
    }
    // Sizes in the table follow the ramdisks.
    if (section.name != "ramdisk" && section.name != "vendor_ramdisk" &&
        section.name != "vendor_ramdisk_table")
      out.rest.push_back(section.bytes);
  }
  for (const OpenPart& one : ramdisks) {
    out.rest.push_back(one.part->rest);
    if (one.ramdisk == nullptr) {
      out.rest.push_back(one.part->bytes);
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
    out.rest.push_back(one.ramdisk->tail);
  }
  out.rest.push_back(meaningful(image.tail(), signature_renewed));
  std::ranges::stable_sort(out.streams, {}, &ImageStream::offset);
  return out;
}

Result<Unfolded> unfold(const LoadedImage& image, const Context& context, bool signature_renewed) {
  WEXLO_TRY(const ReadRamdisks ramdisks, image.decoded->ramdisks(context));
  std::vector<OpenPart> open;
  for (const ReadRamdisk& one : *ramdisks)
    open.push_back({&one.part, one.ramdisk ? &*one.ramdisk : nullptr});
  return unfold(*image.image, open, Side::Stock, context,
                signature_renewed || verified::has_renewed_signature(image.image->tail().view()));
}

StockStream beside(const Unfolded& patched, Compression kind) {
  for (const ImageStream& stream : patched.streams)
    if (stream.compression == kind && kind == Compression::Lz4Legacy)
      return {stream.encoded.view(), stream.decoded.view()};
  return {};
}

Bytes way_back_source(const Unfolded& patched, const std::vector<bool>& same) {
  Bytes out;
  // Room for all of it at once: archives grow by their edits alone.
  std::size_t room = kZeros + kZeros;
  for (std::size_t i = 0; i < patched.streams.size(); ++i)
    if (!same[i]) room += patched.streams[i].decoded.size();
  for (const Blob& one : patched.rest)
    room += one.size();
  out.reserve(room);
  for (std::size_t i = 0; i < patched.streams.size(); ++i)
    if (!same[i]) append_content(out, patched.streams[i]);
  for (const Blob& one : patched.rest)
    append(out, one.view());
  out.resize(out.size() + kZeros);
  return out;
}

}  // namespace wexlo
