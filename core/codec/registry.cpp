#include "codec/codec.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "codec/formats.hpp"

namespace wexlo {
namespace {

struct Row {
  Compression kind;
  std::string_view name;
  std::string_view magic;
  std::unique_ptr<Decoder> (*decoder)(std::uint64_t memory_limit);
  codec::EncoderResult (*encoder)(const Framing&, std::uint64_t size);
  Framing (*framing)(View, std::uint64_t);
};

using namespace codec;
constexpr std::array kRows{
    Row{Compression::Gzip, "gzip", std::string_view("\x1f\x8b\x08", 3), gzip_decoder, gzip_encoder,
        gzip_framing},
    // Encoded by the block and in parallel: lz4_legacy_encode.
    Row{Compression::Lz4Legacy, "lz4-legacy", std::string_view("\x02\x21\x4c\x18", 4),
        lz4_legacy_decoder, nullptr, lz4_legacy_framing},
    Row{Compression::Lz4Frame, "lz4-frame", std::string_view("\x04\x22\x4d\x18", 4),
        lz4_frame_decoder, lz4_frame_encoder, lz4_frame_framing},
    Row{Compression::Xz, "xz", std::string_view("\xfd\x37zXZ\0", 6), xz_decoder, xz_encoder,
        xz_framing},
    Row{Compression::Lzma, "lzma", std::string_view("\x5d\0\0", 3), lzma_decoder, lzma_encoder,
        lzma_framing},
    Row{Compression::Bzip2, "bzip2", std::string_view("BZh", 3), bzip2_decoder, bzip2_encoder,
        bzip2_framing},
    Row{Compression::Zstd, "zstd", std::string_view("\x28\xb5\x2f\xfd", 4), zstd_decoder,
        zstd_encoder, zstd_framing},
    Row{Compression::Lzo, "lzo", std::string_view("\x89LZO\0\r\n\x1a\n", 9), lzo_decoder,
        lzo_encoder, lzo_framing},
    Row{Compression::Zlib, "zlib", "", zlib_decoder, zlib_encoder, zlib_framing},
    Row{Compression::Deflate, "deflate", "", deflate_decoder, nullptr, nullptr},
    Row{Compression::Brotli, "brotli", "", brotli_decoder, nullptr, nullptr},
};

const Row& row_of(Compression kind) {
  return *std::ranges::find(kRows, kind, &Row::kind);  // every kind but None has a row
}

Status check_size(Compression kind, std::uint64_t out, std::uint64_t in, const DecodeLimit& limit) {
  const bool bomb = limit.ratio != 0 && out > limit.ratio_from && out / limit.ratio > in;
  if (out <= limit.bytes && !bomb) return {};
  return fail({.code = ErrorCode::LimitExceeded,
               .message = fmt::format("{} data decodes to too much", compression_name(kind)),
               .offset = 0,
               .expected = bomb ? fmt::format("at most {} times its {} bytes", limit.ratio, in)
                                : fmt::format("at most {} bytes", limit.bytes),
               .found = fmt::format("{} bytes and more", out),
               .hint = "No stock part is that large. If you trust the file, raise the bound: "
                       "--limit SIZE."});
}

std::unexpected<Error> too_much_held(Compression kind, const DecodeLimit& limit) {
  return fail({.code = ErrorCode::LimitExceeded,
               .message = fmt::format("{} data decodes to more than one run may hold",
                                      compression_name(kind)),
               .offset = 0,
               .expected = fmt::format("at most {} bytes, in all that is decoded at a time",
                                       limit.held->bound()),
               .found = "more",
               .hint = "No stock image is that large. If you trust the file, raise the bound: "
                       "--limit SIZE."});
}

Result<Decoded> decode_growing(Compression kind, View in, const DecodeLimit& limit) {
  const auto decoder = make_decoder(kind);
  RawBuffer out;
  Hold hold(limit.held);
  std::size_t size = 0, consumed = 0;
  // One whole block of the formats that decode by the block. The buffer is doubled while that is
  // little: of a bomb no more is asked for than came out.
  constexpr std::size_t kRoom = 8u << 20, kFirst = 256u << 10, kMostMore = 32u << 20;
  for (;;) {
    // Grows by what really came out, never by what the stream says of itself.
    if (out.size() - size < std::min(kRoom, std::max(kFirst / 4, size))) {
      const std::size_t room = std::max(kFirst, size + std::clamp(size, kRoom, kMostMore));
      if (!hold.resize(room)) return too_much_held(kind, limit);
      out.resize(room);
    }
    auto step = decoder->step(in.subspan(consumed), out.view().subspan(size), true);
    if (!step) {
      Error error = std::move(step).error();
      if (!error.offset) error.offset = consumed;
      return fail(std::move(error));
    }
    consumed += step->consumed - step->returned;
    size += step->produced;
    WEXLO_CHECK(check_size(kind, size, in.size(), limit));
    if (step->done) break;
    if (step->consumed == 0 && step->produced == 0) return codec::cut_short(compression_name(kind));
  }
  out.resize(size);
  if (!hold.resize(size)) return too_much_held(kind, limit);
  return Decoded{out.release(std::move(hold)), consumed};
}

}  // namespace

std::string_view compression_name(Compression kind) {
  return kind == Compression::None ? "none" : row_of(kind).name;
}

std::optional<Compression> compression_named(std::string_view name) {
  if (name == "none") return Compression::None;
  for (const Row& row : kRows)
    if (row.name == name) return row.kind;
  return std::nullopt;
}

std::optional<std::uint64_t> skippable_frame(View start) {
  constexpr std::size_t kHead = 8;
  if (start.size() < kHead) return std::nullopt;
  const auto word = [&](std::size_t at) {
    return load<std::uint32_t, std::endian::little>(start.data() + at);
  };
  if ((word(0) & 0xFFFFFFF0) != 0x184D2A50) return std::nullopt;
  return kHead + std::uint64_t{word(4)};
}

std::optional<Compression> detect_compression(View start) {
  while (const auto frame = skippable_frame(start)) {
    if (*frame >= start.size()) return std::nullopt;
    start = start.subspan(static_cast<std::size_t>(*frame));
  }
  for (const Row& row : kRows)
    if (!row.magic.empty() && as_text(start).starts_with(row.magic)) return row.kind;
  return std::nullopt;
}

std::unique_ptr<Decoder> make_decoder(Compression kind, std::uint64_t memory_limit) {
  return row_of(kind).decoder(memory_limit);
}

DecodeLimit decode_limit(const Context& context) {
  if (context.decode_bound == 0) return {.held = context.held};
  // The user allows as much as that, however small the file is.
  return {.bytes = context.decode_bound, .ratio = 0, .held = context.held};
}

Result<Decoded> decode(Compression kind, View in, const DecodeLimit& limit) try {
  if (kind == Compression::Gzip)
    if (auto quick = gzip_decode_whole(in, limit)) {
      WEXLO_CHECK(check_size(kind, quick->bytes.size(), in.size(), limit));
      return std::move(*quick);
    }
  return decode_growing(kind, in, limit);
} catch (const std::bad_alloc& why) {
  return fail(no_memory_error(why, fmt::format("decoding {} data", compression_name(kind))));
}

Framing framing_of(Compression kind, View encoded, std::uint64_t decoded_size) {
  if (kind == Compression::None || row_of(kind).framing == nullptr) return {};
  return row_of(kind).framing(encoded, decoded_size);
}

Result<std::unique_ptr<Encoder>> make_encoder(Compression kind, const Framing& framing,
                                              std::uint64_t size) {
  if (row_of(kind).encoder == nullptr)
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("{} is only read, never written", compression_name(kind))});
  return row_of(kind).encoder(framing, size);
}

Result<Bytes> encode(Compression kind, View in, const Framing& framing, const Context& context,
                     const StockStream& stock) {
  if (kind == Compression::None) return to_bytes(in);
  if (kind == Compression::Lz4Legacy) return lz4_legacy_encode(in, framing, context, stock);
  if (kind == Compression::Gzip && in.size() > kGzipPieces && !stock.encoded.empty())
    return gzip_encode_pieces(in, framing, context);
  WEXLO_TRY(const auto encoder, make_encoder(kind, framing, in.size()));
  constexpr std::size_t kPiece = 1u << 20;  // between two looks at whether to stop
  Bytes out;
  std::size_t used = 0, taken = 0;
  for (;;) {
    WEXLO_CHECK(check_stop(context));
    if (out.size() - used < (64u << 10)) out.resize(used + used / 2 + (1u << 20));
    const View piece = in.subspan(taken, std::min(kPiece, in.size() - taken));
    const bool last = taken + piece.size() == in.size();
    WEXLO_TRY(const CodecStep step, encoder->step(piece, MutableView(out).subspan(used), last));
    taken += step.consumed;
    used += step.produced;
    if (step.done) break;
  }
  out.resize(used);
  return out;
}

}  // namespace wexlo
