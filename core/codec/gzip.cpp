/// gzip (RFC 1952) over zlib. One member is one stream: members that follow are for the caller.

#include <zlib.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

constexpr std::size_t kFixedHeader = 10;
constexpr std::size_t kFlagsAt = 3;
enum Flag : unsigned { HeaderCrc = 2, Extra = 4, Name = 8, Comment = 16 };

Bytef* input(View in) {
  return reinterpret_cast<Bytef*>(const_cast<std::byte*>(in.data()));
}

class GzipDecoder final : public Decoder {
 public:
  GzipDecoder() { ready_ = inflateInit2(&stream_, 15 + 16) == Z_OK; }
  GzipDecoder(const GzipDecoder&) = delete;
  GzipDecoder& operator=(const GzipDecoder&) = delete;
  ~GzipDecoder() override { inflateEnd(&stream_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (!ready_) return no_memory("gzip");
    const auto in_size = static_cast<uInt>(std::min(in.size(), kMaxPiece));
    const auto out_size = static_cast<uInt>(std::min(out.size(), kMaxPiece));
    stream_.next_in = input(in);
    stream_.avail_in = in_size;
    stream_.next_out = reinterpret_cast<Bytef*>(out.data());
    stream_.avail_out = out_size;
    const int code = inflate(&stream_, Z_NO_FLUSH);
    if (code == Z_MEM_ERROR) return no_memory("gzip");
    if (code != Z_OK && code != Z_STREAM_END && code != Z_BUF_ERROR)
      return corrupt("gzip", stream_.msg != nullptr ? stream_.msg : "not a valid stream");
    const Step step{in_size - stream_.avail_in, out_size - stream_.avail_out, code == Z_STREAM_END};
    if (!step.done && last && step.consumed == in.size() && step.produced < out.size())
      return cut_short("gzip");
    return step;
  }

 private:
  z_stream stream_{};
  bool ready_ = false;
};

/// Length of the member header at the start of `in`, or 0 when it is not whole.
std::size_t header_length(View in) {
  if (in.size() < kFixedHeader) return 0;
  const auto flags = std::to_integer<unsigned>(in[kFlagsAt]);
  std::size_t at = kFixedHeader;
  if (flags & Extra) {
    if (in.size() < at + 2) return 0;
    at += 2u + load<std::uint16_t, std::endian::little>(in.data() + at);
  }
  for (const unsigned text : {Name, Comment}) {
    if (!(flags & text)) continue;
    if (at > in.size()) return 0;
    const auto end =
        std::find(in.begin() + static_cast<std::ptrdiff_t>(at), in.end(), std::byte{0});
    at = static_cast<std::size_t>(end - in.begin()) + 1;
  }
  if (flags & HeaderCrc) at += 2;
  return at <= in.size() ? at : 0;
}

}  // namespace

std::unique_ptr<Decoder> gzip_decoder(std::uint64_t) {
  return std::make_unique<GzipDecoder>();
}

Framing gzip_framing(View encoded, std::uint64_t) {
  return {.header = to_bytes(encoded.first(header_length(encoded)))};
}

Result<Bytes> gzip_encode(View in, const Framing& framing) {
  // Time 0 and system "unknown" unless the stock stream said otherwise: same in, same out.
  static constexpr unsigned char kPlain[kFixedHeader] = {0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 2, 0xff};
  Bytes out = framing.header.empty() ? to_bytes(std::as_bytes(std::span(kPlain))) : framing.header;

  z_stream stream{};
  const int level = framing.level < 0 ? Z_BEST_COMPRESSION : framing.level;
  if (deflateInit2(&stream, level, Z_DEFLATED, -15, 9, Z_DEFAULT_STRATEGY) != Z_OK)
    return no_memory("gzip");
  std::size_t used = out.size(), taken = 0;
  uLong crc = crc32(0, nullptr, 0);
  int code = Z_OK;
  while (code != Z_STREAM_END) {
    const View piece = in.subspan(taken, std::min(in.size() - taken, kMaxPiece));
    if (out.size() - used < (64u << 10)) out.resize(used + (1u << 20));
    const auto room = static_cast<uInt>(out.size() - used);
    stream.next_in = input(piece);
    stream.avail_in = static_cast<uInt>(piece.size());
    stream.next_out = reinterpret_cast<Bytef*>(out.data() + used);
    stream.avail_out = room;
    code = deflate(&stream, taken + piece.size() == in.size() ? Z_FINISH : Z_NO_FLUSH);
    const std::size_t consumed = piece.size() - stream.avail_in;
    crc = crc32(crc, input(piece), static_cast<uInt>(consumed));
    taken += consumed;
    used += room - stream.avail_out;
  }
  deflateEnd(&stream);
  out.resize(used);
  LeWriter writer(out);
  writer.put(static_cast<std::uint32_t>(crc));
  writer.put(static_cast<std::uint32_t>(in.size()));
  return out;
}

}  // namespace wexlo::codec
