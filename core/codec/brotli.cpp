/// brotli (RFC 7932) over libbrotli. It has neither a magic nor a check of its own.

#include <brotli/decode.h>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

class BrotliDecoder final : public Decoder {
 public:
  BrotliDecoder() : state_(BrotliDecoderCreateInstance(nullptr, nullptr, nullptr)) {}
  BrotliDecoder(const BrotliDecoder&) = delete;
  BrotliDecoder& operator=(const BrotliDecoder&) = delete;
  ~BrotliDecoder() override { BrotliDecoderDestroyInstance(state_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (state_ == nullptr) return no_memory("brotli");
    std::size_t in_left = in.size(), out_left = out.size();
    const auto* next_in = reinterpret_cast<const std::uint8_t*>(in.data());
    auto* next_out = reinterpret_cast<std::uint8_t*>(out.data());
    const auto code =
        BrotliDecoderDecompressStream(state_, &in_left, &next_in, &out_left, &next_out, nullptr);
    if (code == BROTLI_DECODER_RESULT_ERROR)
      return corrupt("brotli", BrotliDecoderErrorString(BrotliDecoderGetErrorCode(state_)));
    const Step step{in.size() - in_left, out.size() - out_left,
                    code == BROTLI_DECODER_RESULT_SUCCESS};
    if (code == BROTLI_DECODER_RESULT_NEEDS_MORE_INPUT && last && in_left == 0)
      return cut_short("brotli");
    return step;
  }

 private:
  BrotliDecoderState* state_;
};

}  // namespace

std::unique_ptr<Decoder> brotli_decoder(std::uint64_t) {
  return std::make_unique<BrotliDecoder>();
}

}  // namespace wexlo::codec
