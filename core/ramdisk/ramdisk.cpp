#include "ramdisk/ramdisk.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo {
namespace {

using newc::Entry;

/// Formats that a kernel may know and this version of the tool does not.
std::optional<std::string_view> unsupported_name(View start) {
  const auto text = as_text(start);
  if (text.starts_with("\x04\x22\x4d\x18")) return "lz4 frame";
  if (text.starts_with(std::string_view("\x5d\0\0", 3))) return "lzma";
  if (text.starts_with("\x28\xb5\x2f\xfd")) return "zstd";
  if (text.starts_with("\x89LZO")) return "lzop";
  if (text.starts_with(std::string_view("\x88\x16\x88\x58", 4))) return "chipset part header";
  return std::nullopt;
}

Result<RamdiskSegment> parse_segment(const Blob& bytes, std::size_t at, std::uint64_t limit) {
  RamdiskSegment segment;
  const View rest = bytes.view().subspan(at);
  if (newc::looks_like_newc(rest)) {
    auto archive = newc::parse(bytes.rest(at));
    if (!archive) return fail(at_base(std::move(archive).error(), at));
    segment.archive = std::move(*archive);
    // What follows an uncompressed archive may be another, compressed stream.
    const std::size_t size = rest.size() - segment.archive.tail.size();
    segment.archive.tail = {};
    segment.encoded = bytes.part(at, size);
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
                 .expected = "gzip, lz4 legacy, xz, bzip2 or cpio",
                 .found = hex(rest.first(std::min<std::size_t>(rest.size(), 8)))});
  }
  auto decoded = decode(*kind, rest, limit);
  if (!decoded) return fail(at_base(std::move(decoded).error(), at));
  segment.compression = *kind;
  segment.encoded = bytes.part(at, decoded->consumed);
  segment.framing = framing_of(*kind, segment.encoded.view(), decoded->bytes.size());
  auto archive = newc::parse(Blob(std::move(decoded->bytes)));
  if (!archive) {
    Error error = std::move(archive).error();
    error.message += fmt::format(" (inside the {} stream at 0x{:x}, counted decoded)",
                                 compression_name(*kind), at);
    return fail(std::move(error));
  }
  segment.archive = std::move(*archive);
  return segment;
}

std::size_t decoded_size(const RamdiskSegment& segment) {
  std::size_t size = 0;
  for (const Entry& entry : segment.archive.entries)
    size += newc::kHeaderSize + entry.name().size() + entry.data().size();
  return size;
}

}  // namespace

Result<Ramdisk> parse_ramdisk(const Blob& bytes, const RamdiskLimits& limits) {
  Ramdisk ramdisk;
  std::size_t at = 0;
  std::uint64_t left = limits.decoded_bytes;
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
    left -= std::min<std::uint64_t>(left, decoded_size(*segment));
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

Result<Bytes> encode_ramdisk(const Ramdisk& ramdisk) {
  Bytes out;
  for (const RamdiskSegment& segment : ramdisk.segments) {
    append(out, segment.gap.view());
    // A kernel finds an uncompressed archive only at a multiple of 4.
    if (segment.compression == Compression::None) out.resize(align_up(out.size(), 4));
    if (!segment.touched) {
      append(out, segment.encoded.view());
      continue;
    }
    WEXLO_TRY(const Bytes encoded,
              encode(segment.compression, newc::write(segment.archive), segment.framing));
    append(out, View(encoded));
  }
  append(out, ramdisk.tail.view());
  return out;
}

}  // namespace wexlo
