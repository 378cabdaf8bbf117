/// gzip (RFC 1952) and the bare zlib format (RFC 1950) over zlib. One member is one stream: members
/// that follow are for the caller.

#include <libdeflate.h>
#include <zlib.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

constexpr std::size_t kFixedHeader = 10;
constexpr std::size_t kGzipFlagsAt = 3;
enum GzipFlag : unsigned { HeaderCrc = 2, Extra = 4, Name = 8, Comment = 16 };

Bytef* z_input(View in) {
  return reinterpret_cast<Bytef*>(const_cast<std::byte*>(in.data()));
}

class GzipDecoder final : public Decoder {
 public:
  /// @param window  as zlib has it: 15 + 16 for gzip, 15 for its own format
  explicit GzipDecoder(int window) { ready_ = inflateInit2(&stream_, window) == Z_OK; }
  GzipDecoder(const GzipDecoder&) = delete;
  GzipDecoder& operator=(const GzipDecoder&) = delete;
  ~GzipDecoder() override { inflateEnd(&stream_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (!ready_) return no_memory("gzip");
    const auto in_size = static_cast<uInt>(std::min(in.size(), kMaxPiece));
    const auto out_size = static_cast<uInt>(std::min(out.size(), kMaxPiece));
    stream_.next_in = z_input(in);
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

  std::unique_ptr<Decoder> clone() const override {
    std::unique_ptr<GzipDecoder> copy(new GzipDecoder());
    copy->ready_ = inflateCopy(&copy->stream_, const_cast<z_stream*>(&stream_)) == Z_OK;
    return copy->ready_ ? std::move(copy) : nullptr;
  }

 private:
  GzipDecoder() = default;
  z_stream stream_{};
  bool ready_ = false;
};

/// Length of the member header at the start of `in`, or 0 when it is not whole.
std::size_t header_length(View in) {
  if (in.size() < kFixedHeader) return 0;
  const auto flags = std::to_integer<unsigned>(in[kGzipFlagsAt]);
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

/// Time 0 and system "unknown" unless the stock stream said otherwise: same in, same out.
View plain_header() {
  static constexpr unsigned char kPlain[kFixedHeader] = {0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 2, 0xff};
  return std::as_bytes(std::span(kPlain));
}

class GzipEncoder final : public Encoder {
 public:
  GzipEncoder(const Framing& framing, bool bare) : bare_(bare) {
    static constexpr unsigned char kBare[] = {0x78, 0xda};
    const View plain = bare ? View(std::as_bytes(std::span(kBare))) : plain_header();
    pending_ = framing.header.empty() ? to_bytes(plain) : framing.header;
    if (bare) sum_ = adler32(0, nullptr, 0);
    const int level = framing.level < 0 ? Z_BEST_COMPRESSION : framing.level;
    const int memory = framing.variant < 0 ? MAX_MEM_LEVEL : framing.variant;
    ready_ = deflateInit2(&stream_, level, Z_DEFLATED, -15, memory, Z_DEFAULT_STRATEGY) == Z_OK;
  }
  GzipEncoder(const GzipEncoder&) = delete;
  GzipEncoder& operator=(const GzipEncoder&) = delete;
  ~GzipEncoder() override { deflateEnd(&stream_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (!ready_) return no_memory("gzip");
    Step step;
    drain(step, out);
    if (ended_ || !pending_.empty()) return step;
    const auto in_size = static_cast<uInt>(std::min(in.size(), kMaxPiece));
    const auto out_size = static_cast<uInt>(std::min(out.size() - step.produced, kMaxPiece));
    stream_.next_in = z_input(in);
    stream_.avail_in = in_size;
    stream_.next_out = reinterpret_cast<Bytef*>(out.data() + step.produced);
    stream_.avail_out = out_size;
    const int code = deflate(&stream_, last && in_size == in.size() ? Z_FINISH : Z_NO_FLUSH);
    step.consumed = in_size - stream_.avail_in;
    step.produced += out_size - stream_.avail_out;
    sum_ = (bare_ ? adler32 : crc32)(sum_, z_input(in), static_cast<uInt>(step.consumed));
    size_ += step.consumed;
    if (code == Z_STREAM_END) {
      if (bare_) {
        BeWriter(pending_).put(static_cast<std::uint32_t>(sum_));
      } else {
        LeWriter writer(pending_);
        writer.put(static_cast<std::uint32_t>(sum_));
        writer.put(static_cast<std::uint32_t>(size_));
      }
      ended_ = true;
      drain(step, out);
    }
    return step;
  }

 private:
  /// Header and trailer are handed out around the deflate data.
  void drain(Step& step, MutableView out) {
    const std::size_t count = std::min(pending_.size(), out.size() - step.produced);
    std::copy_n(pending_.begin(), count, out.begin() + static_cast<std::ptrdiff_t>(step.produced));
    pending_.erase(pending_.begin(), pending_.begin() + static_cast<std::ptrdiff_t>(count));
    step.produced += count;
    step.done = ended_ && pending_.empty();
  }

  z_stream stream_{};
  Bytes pending_;
  bool bare_;
  uLong sum_ = crc32(0, nullptr, 0);
  std::uint64_t size_ = 0;
  bool ready_ = false, ended_ = false;
};

}  // namespace

std::unique_ptr<Decoder> deflate_decoder(std::uint64_t) {
  return std::make_unique<GzipDecoder>(-15);
}

std::unique_ptr<Decoder> gzip_decoder(std::uint64_t) {
  return std::make_unique<GzipDecoder>(15 + 16);
}

std::optional<Decoded> gzip_decode_whole(View in, const DecodeLimit& limit) {
  // Where the member is all there is, its last word is the content's size; deflate cannot give more
  // than 1032 bytes for one, so a lie costs no memory.
  constexpr std::size_t kLeast = 1u << 20, kMostRatio = 1032;
  if (in.size() < kLeast) return std::nullopt;
  const std::uint32_t size = load<std::uint32_t, std::endian::little>(in.data() + in.size() - 4);
  if (size > limit.bytes || size / kMostRatio > in.size()) return std::nullopt;
  // A word that lies is found out by the decoder: a bomb gets no room on its own word.
  if (limit.ratio != 0 && size > limit.ratio_from && size / limit.ratio > in.size())
    return std::nullopt;
  Hold hold(limit.held);
  if (!hold.resize(size)) return std::nullopt;
  const std::unique_ptr<libdeflate_decompressor, void (*)(libdeflate_decompressor*)> decoder(
      libdeflate_alloc_decompressor(), libdeflate_free_decompressor);
  if (decoder == nullptr) return std::nullopt;
  RawBuffer out(size);
  std::size_t consumed = 0, produced = 0;
  if (libdeflate_gzip_decompress_ex(decoder.get(), in.data(), in.size(), out.view().data(), size,
                                    &consumed, &produced) != LIBDEFLATE_SUCCESS ||
      consumed != in.size() || produced != size)
    return std::nullopt;
  return Decoded{out.release(std::move(hold)), consumed};
}

Framing gzip_framing(View encoded, std::uint64_t) {
  return {.header = to_bytes(encoded.first(header_length(encoded)))};
}

namespace {

/// One piece of a member: raw deflate data up to a byte's end, that may look back into what comes
/// before the piece.
Status deflate_piece(View before, View piece, bool last, const Framing& framing, Bytes& out) {
  z_stream stream{};
  const int level = framing.level < 0 ? Z_BEST_COMPRESSION : framing.level;
  const int memory = framing.variant < 0 ? MAX_MEM_LEVEL : framing.variant;
  if (deflateInit2(&stream, level, Z_DEFLATED, -15, memory, Z_DEFAULT_STRATEGY) != Z_OK)
    return no_memory("gzip");
  if (!before.empty())
    deflateSetDictionary(&stream, z_input(before), static_cast<uInt>(before.size()));
  out.resize(deflateBound(&stream, static_cast<uLong>(piece.size())) + 16);
  stream.next_in = z_input(piece);
  stream.avail_in = static_cast<uInt>(piece.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  deflate(&stream, last ? Z_FINISH : Z_SYNC_FLUSH);
  out.resize(out.size() - stream.avail_out);
  out.shrink_to_fit();
  deflateEnd(&stream);
  return {};
}

}  // namespace

Result<Bytes> gzip_encode_pieces(View in, const Framing& framing, const Context& context) {
  constexpr std::size_t kPiece = 4u << 20, kWindow = 32u << 10;
  const std::size_t count = (in.size() + kPiece - 1) / kPiece;
  std::vector<Bytes> pieces(count);
  std::vector<uLong> sums(count);
  TaskGroup tasks(context);
  for (std::size_t i = 0; i < count; ++i)
    tasks.submit(2 * kPiece, [&, i]() -> Status {
      const View piece = in.subspan(i * kPiece, std::min(kPiece, in.size() - i * kPiece));
      const View before = i == 0 ? View{} : in.subspan(i * kPiece - kWindow, kWindow);
      sums[i] = crc32(0, z_input(piece), static_cast<uInt>(piece.size()));
      return deflate_piece(before, piece, i + 1 == count, framing, pieces[i]);
    });
  WEXLO_CHECK(tasks.wait());
  Bytes out = framing.header.empty() ? to_bytes(plain_header()) : framing.header;
  uLong sum = 0;
  for (std::size_t i = 0; i < count; ++i) {
    append(out, View(pieces[i]));
    const std::size_t size = std::min(kPiece, in.size() - i * kPiece);
    sum = i == 0 ? sums[0] : crc32_combine(sum, sums[i], static_cast<z_off_t>(size));
  }
  LeWriter writer(out);
  writer.put(static_cast<std::uint32_t>(sum));
  writer.put(static_cast<std::uint32_t>(in.size()));
  return out;
}

EncoderResult gzip_encoder(const Framing& framing, std::uint64_t) {
  return std::make_unique<GzipEncoder>(framing, false);
}

std::unique_ptr<Decoder> zlib_decoder(std::uint64_t) {
  return std::make_unique<GzipDecoder>(15);
}

EncoderResult zlib_encoder(const Framing& framing, std::uint64_t) {
  return std::make_unique<GzipEncoder>(framing, true);
}

Framing zlib_framing(View encoded, std::uint64_t) {
  return {.header = to_bytes(encoded.first(std::min<std::size_t>(2, encoded.size())))};
}

}  // namespace wexlo::codec
