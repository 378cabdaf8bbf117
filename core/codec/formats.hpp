#pragma once
/// The codecs' own entry points, for the table in codec.cpp alone.

#include "codec/codec.hpp"

namespace wexlo::codec {

std::unique_ptr<Decoder> gzip_decoder(std::uint64_t memory_limit);
Result<Bytes> gzip_encode(View in, const Framing& framing);
Framing gzip_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> lz4_legacy_decoder(std::uint64_t memory_limit);
Result<Bytes> lz4_legacy_encode(View in, const Framing& framing);
Framing lz4_legacy_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> xz_decoder(std::uint64_t memory_limit);
Result<Bytes> xz_encode(View in, const Framing& framing);
Framing xz_framing(View encoded, std::uint64_t decoded_size);

std::unique_ptr<Decoder> bzip2_decoder(std::uint64_t memory_limit);
Result<Bytes> bzip2_encode(View in, const Framing& framing);

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
