/// What compressed streams say of themselves before they are decoded: content size, dictionary.

#include <lzma.h>
#include <zstd.h>

#include <algorithm>
#include <array>

#include "codec/formats.hpp"
#include "codec/unpacked.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kXzFooter = 12;
constexpr std::uint64_t kMaxIndex = 16u << 20;

/// Frames of more blocks are not walked: their content is counted by decoding it.
constexpr std::uint64_t kMostBlocks = 1u << 20;
constexpr std::size_t kMaxHead = 19;

/// A frame's content, and where the next one begins.
struct FramePlace {
  std::uint64_t content = 0, end = 0;
};

std::optional<std::uint32_t> word_at(const Source& source, std::uint64_t at, std::size_t size) {
  std::byte raw[4]{};
  if (at > source.size() || !source.read_at(at, MutableView(raw).first(size))) return std::nullopt;
  return load<std::uint32_t, std::endian::little>(raw);
}

std::optional<FramePlace> lz4_place(const Source& source, std::uint64_t at, View head) {
  constexpr std::size_t kFixed = 7;
  if (head.size() < kFixed) return std::nullopt;
  const auto flags = std::to_integer<unsigned>(head[4]);
  const bool has_size = (flags & 8) != 0;
  if (!has_size || head.size() < kFixed + 8) return std::nullopt;
  FramePlace out{.content = load<std::uint64_t, std::endian::little>(head.data() + 6)};
  std::uint64_t here = at + kFixed + 8 + ((flags & 1) != 0 ? 4 : 0);
  for (std::uint64_t blocks = 0; blocks < kMostBlocks; ++blocks) {
    const auto size = word_at(source, here, 4);
    if (!size) return std::nullopt;
    here += 4;
    if (*size == 0) {
      out.end = here + ((flags & 4) != 0 ? 4 : 0);
      return out;
    }
    here += (*size & 0x7FFFFFFF) + ((flags & 16) != 0 ? 4 : 0);
  }
  return std::nullopt;
}

std::optional<FramePlace> zstd_place(const Source& source, std::uint64_t at, View head) {
  const unsigned long long size = ZSTD_getFrameContentSize(head.data(), head.size());
  if (size == ZSTD_CONTENTSIZE_UNKNOWN || size == ZSTD_CONTENTSIZE_ERROR || head.size() < 5)
    return std::nullopt;
  const auto flags = std::to_integer<unsigned>(head[4]);
  const bool single = (flags & 0x20) != 0;
  constexpr std::array<std::uint64_t, 4> kDictionary{0, 1, 2, 4}, kContent{0, 2, 4, 8};
  std::uint64_t here = at + 5 + (single ? 0 : 1) + kDictionary[flags & 3] +
                       (single && flags >> 6 == 0 ? 1 : kContent[flags >> 6]);
  for (std::uint64_t blocks = 0; blocks < kMostBlocks; ++blocks) {
    const auto block = word_at(source, here, 3);
    if (!block) return std::nullopt;
    const bool repeated = (*block >> 1 & 3) == 1;  // one byte stands for all
    here += 3 + (repeated ? 1 : *block >> 3);
    if ((*block & 1) == 0) continue;
    return FramePlace{size, here + ((flags & 4) != 0 ? 4 : 0)};
  }
  return std::nullopt;
}

/// Frames one behind the other: each has to say how much is in it.
std::optional<std::uint64_t> frames_size(Compression kind, const Source& source) {
  std::uint64_t at = 0, total = 0;
  bool any = false;
  while (at < source.size()) {
    const auto head = read_some(source, at, kMaxHead);
    if (!head) return std::nullopt;
    if (const auto skipped = skippable_frame(*head)) {
      at += *skipped;
      continue;
    }
    if (detect_compression(*head) != kind) break;
    const auto frame =
        kind == Compression::Zstd ? zstd_place(source, at, *head) : lz4_place(source, at, *head);
    if (!frame || frame->content > ~std::uint64_t{0} - total) return std::nullopt;
    total += frame->content;
    at = frame->end;
    any = true;
  }
  return any ? std::optional(total) : std::nullopt;
}

/// Every xz stream ends with an index of its blocks: the file is walked from its end.
std::optional<std::uint64_t> xz_size(const Source& source) {
  std::uint64_t end = source.size(), total = 0;
  while (end > 0) {
    std::uint8_t raw[kXzFooter];
    const MutableView footer = std::as_writable_bytes(std::span(raw));
    if (end < 2 * kXzFooter || !source.read_at(end - kXzFooter, footer)) return std::nullopt;
    if (all_bytes(footer.last(4), std::byte{0})) {  // padding between streams
      end -= 4;
      continue;
    }
    lzma_stream_flags flags;
    if (lzma_stream_footer_decode(&flags, raw) != LZMA_OK) return std::nullopt;
    const std::uint64_t index_size = flags.backward_size;
    if (index_size > std::min(kMaxIndex, end - kXzFooter)) return std::nullopt;
    const auto packed = read_some(source, end - kXzFooter - index_size, index_size);
    if (!packed) return std::nullopt;
    lzma_index* index = nullptr;
    std::uint64_t memory = 64u << 20;
    std::size_t at = 0;
    if (lzma_index_buffer_decode(&index, &memory, nullptr,
                                 reinterpret_cast<const std::uint8_t*>(packed->data()), &at,
                                 packed->size()) != LZMA_OK)
      return std::nullopt;
    const std::uint64_t stream = lzma_index_file_size(index);
    total += lzma_index_uncompressed_size(index);
    lzma_index_end(index, nullptr);
    if (stream > end) return std::nullopt;
    end -= stream;
  }
  return total;
}

/// The header of the first block names its filters.
std::uint64_t xz_dictionary(View start) {
  constexpr std::size_t kStreamHeader = 12;
  if (start.size() <= kStreamHeader) return 0;
  lzma_filter filters[LZMA_FILTERS_MAX + 1];
  lzma_block block{};
  block.version = 1;
  block.filters = filters;
  block.check = static_cast<lzma_check>(std::to_integer<unsigned>(start[7]) & 0xf);
  block.header_size = lzma_block_header_size_decode(std::to_integer<std::uint32_t>(start[12]));
  if (block.header_size > start.size() - kStreamHeader) return 0;
  const auto* raw = reinterpret_cast<const std::uint8_t*>(start.data()) + kStreamHeader;
  if (lzma_block_header_decode(&block, nullptr, raw) != LZMA_OK) return 0;
  const std::uint64_t memory = lzma_raw_decoder_memusage(filters);
  for (lzma_filter* filter = filters; filter->id != LZMA_VLI_UNKNOWN; ++filter)
    std::free(filter->options);
  return memory == UINT64_MAX ? 0 : memory;
}

}  // namespace

std::optional<std::uint64_t> codec::promised_size(Compression kind, const Source& source) {
  // Only where any place can be looked at without passing all that is before it.
  if (!source.seekable()) return std::nullopt;
  if (kind == Compression::Lz4Frame || kind == Compression::Zstd) return frames_size(kind, source);
  if (kind == Compression::Xz) return xz_size(source);
  return std::nullopt;
}

std::uint64_t decoder_memory(Compression kind, View in) {
  switch (kind) {
    case Compression::Xz: return xz_dictionary(in);
    case Compression::Lzma:
      return in.size() < 5 ? 0 : load<std::uint32_t, std::endian::little>(in.data() + 1);
    case Compression::Bzip2: return 4u << 20;
    case Compression::Brotli: return 16u << 20;
    default: return 1u << 20;
  }
}

}  // namespace wexlo
