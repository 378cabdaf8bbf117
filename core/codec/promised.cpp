/// What compressed streams say of themselves before they are decoded: content size, dictionary.

#include <lz4frame.h>
#include <lzma.h>
#include <zstd.h>

#include <algorithm>

#include "codec/formats.hpp"
#include "codec/unpacked.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kXzFooter = 12;
constexpr std::uint64_t kMaxIndex = 16u << 20;

std::optional<std::uint64_t> lz4_size(View start) {
  LZ4F_dctx* context = nullptr;
  if (LZ4F_isError(LZ4F_createDecompressionContext(&context, LZ4F_VERSION))) return std::nullopt;
  LZ4F_frameInfo_t info{};
  std::size_t used = start.size();
  const bool bad = LZ4F_isError(LZ4F_getFrameInfo(context, &info, start.data(), &used));
  LZ4F_freeDecompressionContext(context);
  if (bad || info.contentSize == 0) return std::nullopt;
  return info.contentSize;
}

std::optional<std::uint64_t> zstd_size(View start) {
  const unsigned long long size = ZSTD_getFrameContentSize(start.data(), start.size());
  if (size == ZSTD_CONTENTSIZE_UNKNOWN || size == ZSTD_CONTENTSIZE_ERROR) return std::nullopt;
  return size;
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

std::optional<std::uint64_t> codec::promised_size(Compression kind, View start,
                                                  const Source& source) {
  if (kind == Compression::Lz4Frame) return lz4_size(start);
  if (kind == Compression::Zstd) return zstd_size(start);
  // Only where the end can be looked at without passing all that is before it.
  if (kind == Compression::Xz && source.seekable()) return xz_size(source);
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
