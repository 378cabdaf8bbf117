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
  Result<Bytes> (*encode)(View, const Framing&);
  Framing (*framing)(View, std::uint64_t);
};

constexpr std::array kRows{
    Row{Compression::Gzip, "gzip", std::string_view("\x1f\x8b\x08", 3), codec::gzip_decoder,
        codec::gzip_encode, codec::gzip_framing},
    Row{Compression::Lz4Legacy, "lz4-legacy", std::string_view("\x02\x21\x4c\x18", 4),
        codec::lz4_legacy_decoder, codec::lz4_legacy_encode, codec::lz4_legacy_framing},
    Row{Compression::Xz, "xz", std::string_view("\xfd\x37zXZ\0", 6), codec::xz_decoder,
        codec::xz_encode, codec::xz_framing},
    Row{Compression::Bzip2, "bzip2", std::string_view("BZh", 3), codec::bzip2_decoder,
        codec::bzip2_encode, nullptr},
};

const Row& row_of(Compression kind) {
  return *std::ranges::find(kRows, kind, &Row::kind);  // every kind but None has a row
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

std::optional<Compression> detect_compression(View start) {
  for (const Row& row : kRows)
    if (as_text(start).starts_with(row.magic)) return row.kind;
  return std::nullopt;
}

std::unique_ptr<Decoder> make_decoder(Compression kind, std::uint64_t memory_limit) {
  return row_of(kind).decoder(memory_limit);
}

Result<Decoded> decode(Compression kind, View in, std::uint64_t limit) {
  const auto decoder = make_decoder(kind);
  Decoded result;
  std::size_t size = 0;
  for (;;) {
    // Grows by what really came out, never by what the stream says of itself.
    if (result.bytes.size() - size < (64u << 10))
      result.bytes.resize(std::max<std::size_t>(256u << 10, size * 2));
    auto step =
        decoder->step(in.subspan(result.consumed), MutableView(result.bytes).subspan(size), true);
    if (!step) {
      Error error = std::move(step).error();
      if (!error.offset) error.offset = result.consumed;
      return fail(std::move(error));
    }
    result.consumed += step->consumed;
    size += step->produced;
    if (size > limit)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = fmt::format("{} data decodes to too much", compression_name(kind)),
                   .offset = 0,
                   .expected = fmt::format("at most {} bytes", limit),
                   .hint = "Check where the file is from: no stock part is that large."});
    if (step->done) break;
    if (step->consumed == 0 && step->produced == 0) return codec::cut_short(compression_name(kind));
  }
  result.bytes.resize(size);
  return result;
}

Framing framing_of(Compression kind, View encoded, std::uint64_t decoded_size) {
  if (kind == Compression::None || row_of(kind).framing == nullptr) return {};
  return row_of(kind).framing(encoded, decoded_size);
}

Result<Bytes> encode(Compression kind, View in, const Framing& framing) {
  if (kind == Compression::None) return to_bytes(in);
  return row_of(kind).encode(in, framing);
}

}  // namespace wexlo
