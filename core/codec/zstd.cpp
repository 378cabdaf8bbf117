/// zstd over libzstd. One frame is one stream: frames that follow are for the caller.

#include <zstd.h>
#include <zstd_errors.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

constexpr std::size_t kDescriptorAt = 4, kMaxZstdHeader = 18;
constexpr int kDensestZstd = 19;  ///< above, a reader needs more than the usual 8 MiB window

class ZstdDecoder final : public Decoder {
 public:
  explicit ZstdDecoder(std::uint64_t memory_limit) : context_(ZSTD_createDCtx()) {
    // A window is a power of two; the limit is for what the stream may ask for.
    const int log = static_cast<int>(std::bit_width(memory_limit)) - 1;
    if (context_ != nullptr) ZSTD_DCtx_setParameter(context_, ZSTD_d_windowLogMax, log);
  }
  ZstdDecoder(const ZstdDecoder&) = delete;
  ZstdDecoder& operator=(const ZstdDecoder&) = delete;
  ~ZstdDecoder() override { ZSTD_freeDCtx(context_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (context_ == nullptr) return no_memory("zstd");
    ZSTD_inBuffer input{in.data(), in.size(), 0};
    ZSTD_outBuffer output{out.data(), out.size(), 0};
    const std::size_t code = ZSTD_decompressStream(context_, &output, &input);
    if (ZSTD_isError(code)) {
      const std::string_view why = ZSTD_getErrorName(code);
      if (ZSTD_getErrorCode(code) == ZSTD_error_frameParameter_windowTooLarge)
        return wants_too_much("zstd");
      if (ZSTD_getErrorCode(code) == ZSTD_error_memory_allocation) return no_memory("zstd");
      return corrupt("zstd", why);
    }
    Step step{input.pos, output.pos, code == 0};
    head_.saw(in.first(step.consumed));
    if (step.done && head_.was_skippable()) {
      step.done = last && step.consumed == in.size();
      return step;
    }
    if (!step.done && last && step.consumed == in.size() && step.produced < out.size())
      return cut_short("zstd");
    return step;
  }

 private:
  ZSTD_DCtx* context_;
  FrameHead head_;
};

class ZstdEncoder final : public Encoder {
 public:
  ZstdEncoder(const Framing& framing, std::uint64_t size) : context_(ZSTD_createCCtx()) {
    if (context_ == nullptr) return;
    const auto flags =
        framing.header.size() > kDescriptorAt ? std::to_integer<unsigned>(framing.header[4]) : 0u;
    const bool size_given = framing.header.empty() || (flags & 0xe0) != 0;
    set(ZSTD_c_compressionLevel, framing.level < 0 ? kDensestZstd : framing.level);
    set(ZSTD_c_checksumFlag, framing.header.empty() ? 1 : static_cast<int>(flags >> 2 & 1));
    set(ZSTD_c_contentSizeFlag, size_given ? 1 : 0);
    // The library chooses its tables by the size, when it is told.
    if (framing.variant <= 0 || size_given) ZSTD_CCtx_setPledgedSrcSize(context_, size);
    if (framing.variant > 0 && (framing.variant & 2) != 0) set(ZSTD_c_nbWorkers, 1);
  }
  ZstdEncoder(const ZstdEncoder&) = delete;
  ZstdEncoder& operator=(const ZstdEncoder&) = delete;
  ~ZstdEncoder() override { ZSTD_freeCCtx(context_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (context_ == nullptr) return no_memory("zstd");
    ZSTD_inBuffer input{in.data(), in.size(), 0};
    ZSTD_outBuffer output{out.data(), out.size(), 0};
    // Told of the end together with the whole input, the library would take its size as given.
    const bool ends = last && in.empty();
    const std::size_t left =
        ZSTD_compressStream2(context_, &output, &input, ends ? ZSTD_e_end : ZSTD_e_continue);
    if (ZSTD_isError(left)) return no_memory("zstd");
    return Step{input.pos, output.pos, ends && left == 0};
  }

 private:
  void set(ZSTD_cParameter parameter, int value) {
    ZSTD_CCtx_setParameter(context_, parameter, value);
  }
  ZSTD_CCtx* context_;
};

}  // namespace

std::unique_ptr<Decoder> zstd_decoder(std::uint64_t memory_limit) {
  return std::make_unique<ZstdDecoder>(memory_limit);
}

EncoderResult zstd_encoder(const Framing& framing, std::uint64_t size) {
  return std::make_unique<ZstdEncoder>(framing, size);
}

Framing zstd_framing(View encoded, std::uint64_t) {
  return {.header = to_bytes(encoded.first(std::min(encoded.size(), kMaxZstdHeader)))};
}

}  // namespace wexlo::codec
