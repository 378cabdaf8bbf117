/// bzip2 over libbz2. One stream a decoder: streams that follow are for the caller.

#include <bzlib.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

char* bz_input(View in) {
  return reinterpret_cast<char*>(const_cast<std::byte*>(in.data()));
}

class Bzip2Decoder final : public Decoder {
 public:
  Bzip2Decoder() { ready_ = BZ2_bzDecompressInit(&stream_, 0, 0) == BZ_OK; }
  Bzip2Decoder(const Bzip2Decoder&) = delete;
  Bzip2Decoder& operator=(const Bzip2Decoder&) = delete;
  ~Bzip2Decoder() override { BZ2_bzDecompressEnd(&stream_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (!ready_) return no_memory("bzip2");
    const auto in_size = static_cast<unsigned>(std::min(in.size(), kMaxPiece));
    const auto out_size = static_cast<unsigned>(std::min(out.size(), kMaxPiece));
    stream_.next_in = bz_input(in);
    stream_.avail_in = in_size;
    stream_.next_out = reinterpret_cast<char*>(out.data());
    stream_.avail_out = out_size;
    const int code = BZ2_bzDecompress(&stream_);
    if (code == BZ_MEM_ERROR) return no_memory("bzip2");
    if (code != BZ_OK && code != BZ_STREAM_END)
      return corrupt("bzip2", code == BZ_DATA_ERROR_MAGIC ? "wrong magic" : "not a valid stream");
    const Step step{in_size - stream_.avail_in, out_size - stream_.avail_out,
                    code == BZ_STREAM_END};
    if (!step.done && last && step.consumed == in.size() && step.produced < out.size())
      return cut_short("bzip2");
    return step;
  }

 private:
  bz_stream stream_{};
  bool ready_ = false;
};

class Bzip2Encoder final : public Encoder {
 public:
  explicit Bzip2Encoder(int level) { ready_ = BZ2_bzCompressInit(&stream_, level, 0, 0) == BZ_OK; }
  Bzip2Encoder(const Bzip2Encoder&) = delete;
  Bzip2Encoder& operator=(const Bzip2Encoder&) = delete;
  ~Bzip2Encoder() override { BZ2_bzCompressEnd(&stream_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (!ready_) return no_memory("bzip2");
    if (in.empty() && !last) return Step{};  // the library takes that for a mistake
    const auto in_size = static_cast<unsigned>(std::min(in.size(), kMaxPiece));
    const auto out_size = static_cast<unsigned>(std::min(out.size(), kMaxPiece));
    stream_.next_in = bz_input(in);
    stream_.avail_in = in_size;
    stream_.next_out = reinterpret_cast<char*>(out.data());
    stream_.avail_out = out_size;
    // Once it was told of the end it has to be told again until it is through.
    finishing_ = finishing_ || (last && in_size == in.size());
    const int code = BZ2_bzCompress(&stream_, finishing_ ? BZ_FINISH : BZ_RUN);
    if (code < 0) return corrupt("bzip2", "the library does not take it");
    return Step{in_size - stream_.avail_in, out_size - stream_.avail_out, code == BZ_STREAM_END};
  }

 private:
  bz_stream stream_{};
  bool ready_ = false, finishing_ = false;
};

}  // namespace

std::unique_ptr<Decoder> bzip2_decoder(std::uint64_t) {
  return std::make_unique<Bzip2Decoder>();
}

EncoderResult bzip2_encoder(const Framing& framing, std::uint64_t) {
  return std::make_unique<Bzip2Encoder>(framing.level < 0 ? 9 : framing.level);
}

Framing bzip2_framing(View encoded, std::uint64_t) {
  // The level is the block size, and stands in the fourth byte; nothing else decides the output.
  Framing framing;
  if (encoded.size() > 3) {
    const int level = std::to_integer<int>(encoded[3]) - '0';
    if (level >= 1 && level <= 9) framing.level = level;
  }
  return framing;
}

}  // namespace wexlo::codec
