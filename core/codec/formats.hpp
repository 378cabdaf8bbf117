#pragma once
/// The codecs' own entry points, for the table in codec.cpp and the search in settings.cpp alone.

#include "codec/codec.hpp"

namespace wexlo::codec {

using EncoderResult = Result<std::unique_ptr<Encoder>>;

std::unique_ptr<Decoder> gzip_decoder(std::uint64_t memory_limit);
EncoderResult gzip_encoder(const Framing& framing, std::uint64_t size);
Framing gzip_framing(View encoded, std::uint64_t decoded_size);
/// The quick way for a member that is all of the input: nullopt when it is not, or does not decode.
std::optional<Decoded> gzip_decode_whole(View in, std::uint64_t most);
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
bool lz4_gives(Compression kind, View content, View encoded, int level);

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

std::unique_ptr<Decoder> zstd_decoder(std::uint64_t memory_limit);
EncoderResult zstd_encoder(const Framing& framing, std::uint64_t size);
Framing zstd_framing(View encoded, std::uint64_t decoded_size);

/// What the stream says of its content's size: from its header, or an index at its end.
std::optional<std::uint64_t> promised_size(Compression kind, View start, const Source& source);

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
[[nodiscard]] inline std::unexpected<Error> no_memory(std::string_view format) {
  return fail({.code = ErrorCode::LimitExceeded,
               .message = std::string(format) + " data asks for more memory than is allowed",
               .hint = "Such a stream is not usual in firmware: check where the file is from."});
}

}  // namespace wexlo::codec
