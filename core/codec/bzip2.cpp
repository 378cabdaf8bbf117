/// bzip2 over libbz2. One stream a decoder: streams that follow are for the caller.

#include <bzlib.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

char* input(View in) {
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
    stream_.next_in = input(in);
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

}  // namespace

std::unique_ptr<Decoder> bzip2_decoder(std::uint64_t) {
  return std::make_unique<Bzip2Decoder>();
}

Result<Bytes> bzip2_encode(View in, const Framing& framing) {
  if (in.size() > kMaxPiece) return no_memory("bzip2");
  Bytes out(in.size() + in.size() / 100 + 600);  // the bound that libbz2's manual gives
  auto size = static_cast<unsigned>(out.size());
  const int level = framing.level < 0 ? 9 : framing.level;
  if (BZ2_bzBuffToBuffCompress(reinterpret_cast<char*>(out.data()), &size, input(in),
                               static_cast<unsigned>(in.size()), level, 0, 0) != BZ_OK)
    return no_memory("bzip2");
  out.resize(size);
  return out;
}

}  // namespace wexlo::codec
