#pragma once
/// The codecs' own entry points, for the table in registry.cpp and the search in settings.cpp
/// alone.

#include <algorithm>
#include <array>

#include "codec/codec.hpp"

namespace wexlo::codec {

using EncoderResult = Result<std::unique_ptr<Encoder>>;

std::unique_ptr<Decoder> gzip_decoder(std::uint64_t memory_limit);
EncoderResult gzip_encoder(const Framing& framing, std::uint64_t size);
Framing gzip_framing(View encoded, std::uint64_t decoded_size);
/// The quick way for a member that is all of the input: nullopt when it is not, or does not decode.
std::optional<Decoded> gzip_decode_whole(View in, const DecodeLimit& limit);
/// Above this many bytes a gzip member is put together from pieces that were packed in parallel.
inline constexpr std::size_t kGzipPieces = 32u << 20;
Result<Bytes> gzip_encode_pieces(View in, const Framing& framing, const Context& context);

std::unique_ptr<Decoder> deflate_decoder(std::uint64_t memory_limit);
std::unique_ptr<Decoder> brotli_decoder(std::uint64_t memory_limit);

std::unique_ptr<Decoder> zlib_decoder(std::uint64_t memory_limit);
EncoderResult zlib_encoder(const Framing& framing, std::uint64_t size);
Framing zlib_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> lz4_legacy_decoder(std::uint64_t memory_limit);
Framing lz4_legacy_framing(View encoded, std::uint64_t decoded_size);
Result<Bytes> lz4_legacy_encode(View in, const Framing& framing, const Context& context,
                                const StockStream& stock);
/// Does this level give the start of the stock stream's first block (either framing)? Tried on a
/// short piece.
/// @param thorough  tries half a megabyte of it, else what turns almost any other level away
bool lz4_gives(Compression kind, View content, View encoded, int level, bool thorough);

std::unique_ptr<Decoder> lz4_frame_decoder(std::uint64_t memory_limit);
EncoderResult lz4_frame_encoder(const Framing& framing, std::uint64_t size);
Framing lz4_frame_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> xz_decoder(std::uint64_t memory_limit);
EncoderResult xz_encoder(const Framing& framing, std::uint64_t size);
Framing xz_framing(View encoded, std::uint64_t decoded_size);
/// The same header as an encoder of one thread writes it.
Bytes xz_header_without_sizes(View header);

std::unique_ptr<Decoder> lzma_decoder(std::uint64_t memory_limit);
EncoderResult lzma_encoder(const Framing& framing, std::uint64_t size);
Framing lzma_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> bzip2_decoder(std::uint64_t memory_limit);
EncoderResult bzip2_encoder(const Framing& framing, std::uint64_t size);
Framing bzip2_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> lzo_decoder(std::uint64_t memory_limit);
EncoderResult lzo_encoder(const Framing& framing, std::uint64_t size);
Framing lzo_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> zstd_decoder(std::uint64_t memory_limit);
EncoderResult zstd_encoder(const Framing& framing, std::uint64_t size);
Framing zstd_framing(View encoded, std::uint64_t decoded_size);

/// What the streams of a source say of their content's size, all of them together: from the heads
/// of their frames, or an index at the end. nullopt: one of them does not say.
std::optional<std::uint64_t> promised_size(Compression kind, const Source& source);

/// Watches the first bytes of each frame go by, to know skippable ones: the libraries take them for
/// whole frames, and their end is not the content's.
class FrameHead {
 public:
  void saw(View taken) {
    const std::size_t count = std::min(taken.size(), head_.size() - have_);
    std::copy_n(taken.begin(), count, head_.begin() + static_cast<std::ptrdiff_t>(have_));
    have_ += count;
  }
  /// At a frame's end. True: it was a skippable one, and the next one begins.
  bool was_skippable() {
    const bool skippable = have_ == head_.size() && skippable_frame(head_).has_value();
    have_ = 0;
    return skippable;
  }

 private:
  std::array<std::byte, 8> head_{};
  std::size_t have_ = 0;
};

/// The libraries count in 32 bits: a piece of at most 1 GiB is handed over at a time.
inline constexpr std::size_t kMaxPiece = std::size_t{1} << 30;

[[nodiscard]] inline std::unexpected<Error> corrupt(std::string_view format, std::string_view why) {
  return fail({.code = ErrorCode::Corrupt,
               .message = std::string(format) + " data is damaged: " + std::string(why),
               .hint = "Fetch the file again; compare its digest with the source's."});
}
[[nodiscard]] inline std::unexpected<Error> cut_short(std::string_view format) {
  return fail({.code = ErrorCode::Truncated,
               .message = std::string(format) + " data ends too early",
               .hint = "The file may be cut short: compare its size with the source's."});
}
/// The stream's own demand is above what it may have.
[[nodiscard]] inline std::unexpected<Error> wants_too_much(std::string_view format) {
  return fail({.code = ErrorCode::LimitExceeded,
               .message = std::string(format) + " data asks for more memory than is allowed",
               .hint = "Such a stream is not usual in firmware: check where the file is from."});
}
/// The library got none from the system; how much it asked for it does not say.
[[nodiscard]] inline std::unexpected<Error> no_memory(std::string_view format) {
  return fail({.code = ErrorCode::NoMemory,
               .message = "not enough memory for the " + std::string(format) + " library",
               .hint = "Close other programs, or use a smaller --jobs."});
}

}  // namespace wexlo::codec
