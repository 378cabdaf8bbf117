#include "ramdisk/ramdisk.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo {
namespace {

using newc::Entry;

/// Formats that a kernel may know and no usual library does.
std::optional<std::string_view> unsupported_name(View start) {
  if (as_text(start).starts_with("\x89LZO")) return "lzop";
  return std::nullopt;
}

Result<RamdiskSegment> parse_segment(const Blob& bytes, std::size_t at, const DecodeLimit& limit) {
  RamdiskSegment segment;
  const View rest = bytes.view().subspan(at);
  if (newc::looks_like_newc(rest)) {
    auto archive = newc::parse(bytes.rest(at));
    if (!archive) return fail(at_base(std::move(archive).error(), at));
    segment.archive = std::move(*archive);
    // What follows an uncompressed archive may be another, compressed stream.
    const std::size_t size = rest.size() - segment.archive.tail.size();
    segment.archive.tail = {};
    segment.encoded = segment.decoded = bytes.part(at, size);
    return segment;
  }
  const auto kind = detect_compression(rest);
  if (!kind) {
    const auto name = unsupported_name(rest);
    return fail({.code = name ? ErrorCode::Unsupported : ErrorCode::BadMagic,
                 .message = name
                                ? fmt::format("a ramdisk in {} form is not supported yet", *name)
                                : "the ramdisk is neither an archive nor compressed in a known way",
                 .offset = at,
                 .expected = "gzip, lz4, xz, lzma, bzip2, zstd or cpio",
                 .found = hex(rest.first(std::min<std::size_t>(rest.size(), 8)))});
  }
  auto decoded = decode(*kind, rest, limit);
  if (!decoded) return fail(at_base(std::move(decoded).error(), at));
  segment.compression = *kind;
  segment.encoded = bytes.part(at, decoded->consumed);
  segment.framing = framing_of(*kind, segment.encoded.view(), decoded->bytes.size());
  segment.decoded = decoded->bytes;
  auto archive = newc::parse(segment.decoded);
  if (!archive) {
    Error error = std::move(archive).error();
    error.message += fmt::format(" (inside the {} stream at 0x{:x}, counted decoded)",
                                 compression_name(*kind), at);
    return fail(std::move(error));
  }
  segment.archive = std::move(*archive);
  return segment;
}

}  // namespace

Result<Ramdisk> parse_ramdisk(const Blob& bytes, const DecodeLimit& limit) {
  Ramdisk ramdisk;
  std::size_t at = 0;
  DecodeLimit left = limit;  // for all streams together
  while (at < bytes.size()) {
    std::size_t begin = at;
    while (begin < bytes.size() && bytes.view()[begin] == std::byte{0})
      ++begin;
    const View rest = bytes.view().subspan(begin);
    const bool more = newc::looks_like_newc(rest) || detect_compression(rest);
    if (!more && !ramdisk.segments.empty()) break;
    auto segment = parse_segment(bytes, begin, left);
    if (!segment) {
      // Behind a good stream, bytes that only look like another one are carried.
      if (!ramdisk.segments.empty() && segment.error().code == ErrorCode::Corrupt) break;
      return fail(std::move(segment).error());
    }
    segment->gap = bytes.part(at, begin - at);
    at = begin + segment->encoded.size();
    left.bytes -= std::min<std::uint64_t>(left.bytes, segment->decoded.size());
    ramdisk.segments.push_back(std::move(*segment));
  }
  if (ramdisk.segments.empty())
    return fail(
        {.code = ErrorCode::BadMagic,
         .message = "the ramdisk is empty",
         .offset = 0,
         .hint = "Another partition (init_boot, boot or recovery) holds the first ramdisk."});
  ramdisk.tail = bytes.rest(at);
  return ramdisk;
}

Result<Ramdisk> reread_stock(const Ramdisk& edited) {
  Ramdisk stock{.tail = edited.tail};
  for (const RamdiskSegment& segment : edited.segments) {
    RamdiskSegment fresh = segment;
    WEXLO_TRY(fresh.archive, newc::parse(segment.decoded));
    // In a compressed stream all belongs to the archive; behind a plain one other streams follow,
    // and `decoded` ends before them.
    fresh.touched = false;
    stock.segments.push_back(std::move(fresh));
  }
  return stock;
}

Setting stock_setting(const RamdiskSegment& segment, const Context& context, Effort effort) {
  return find_setting(segment.compression, segment.decoded.view(), segment.encoded.view(),
                      segment.framing, context, effort);
}

Result<Bytes> encode_ramdisk(const Ramdisk& ramdisk, const Context& context) {
  Bytes out;
  bool moved = false;  // something in front is of another size
  for (const RamdiskSegment& segment : ramdisk.segments) {
    append(out, segment.gap.view());
    // A kernel finds an uncompressed archive only at a multiple of 4.
    if (segment.compression == Compression::None && moved) out.resize(align_up(out.size(), 4));
    moved = moved || segment.touched;
    if (!segment.touched) {
      append(out, segment.encoded.view());
      continue;
    }
    const Framing framing =
        segment.setting_known ? segment.framing : stock_setting(segment, context).framing;
    const Bytes archive = newc::write(segment.archive);
    WEXLO_TRY(const Bytes encoded, encode(segment.compression, archive, framing, context,
                                          {segment.encoded.view(), segment.decoded.view()}));
    append(out, View(encoded));
  }
  append(out, ramdisk.tail.view());
  return out;
}

}  // namespace wexlo
