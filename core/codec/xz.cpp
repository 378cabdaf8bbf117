/// xz over liblzma. One xz stream is one stream: padding and further streams are for the caller.

#include <lzma.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

constexpr std::size_t kCheckAt = 7;  ///< stream flags: the id of the integrity check

class XzDecoder final : public Decoder {
 public:
  explicit XzDecoder(std::uint64_t memory_limit) {
    ready_ = lzma_stream_decoder(&stream_, memory_limit, 0) == LZMA_OK;
  }
  XzDecoder(const XzDecoder&) = delete;
  XzDecoder& operator=(const XzDecoder&) = delete;
  ~XzDecoder() override { lzma_end(&stream_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (!ready_) return no_memory("xz");
    stream_.next_in = reinterpret_cast<const std::uint8_t*>(in.data());
    stream_.avail_in = in.size();
    stream_.next_out = reinterpret_cast<std::uint8_t*>(out.data());
    stream_.avail_out = out.size();
    const lzma_ret code = lzma_code(&stream_, last ? LZMA_FINISH : LZMA_RUN);
    const Step step{in.size() - stream_.avail_in, out.size() - stream_.avail_out,
                    code == LZMA_STREAM_END};
    switch (code) {
      case LZMA_OK:
      case LZMA_STREAM_END: return step;
      case LZMA_BUF_ERROR:
        if (last && stream_.avail_in == 0 && stream_.avail_out > 0) return cut_short("xz");
        return step;
      case LZMA_MEM_ERROR:
      case LZMA_MEMLIMIT_ERROR: return no_memory("xz");
      case LZMA_FORMAT_ERROR: return corrupt("xz", "wrong magic");
      case LZMA_OPTIONS_ERROR: return corrupt("xz", "it asks for a filter nobody knows");
      default: return corrupt("xz", "its own check does not match");
    }
  }

 private:
  lzma_stream stream_ = LZMA_STREAM_INIT;
  bool ready_ = false;
};

}  // namespace

std::unique_ptr<Decoder> xz_decoder(std::uint64_t memory_limit) {
  return std::make_unique<XzDecoder>(memory_limit);
}

Framing xz_framing(View encoded, std::uint64_t) {
  Framing framing;
  if (encoded.size() > kCheckAt) framing.check = std::to_integer<std::uint32_t>(encoded[kCheckAt]);
  return framing;
}

Result<Bytes> xz_encode(View in, const Framing& framing) {
  lzma_options_lzma options;
  const auto preset =
      framing.level < 0 ? 9u | LZMA_PRESET_EXTREME : static_cast<std::uint32_t>(framing.level);
  lzma_lzma_preset(&options, preset);
  // No larger than the content: a kernel has to allocate the dictionary early in the start.
  const std::uint64_t wanted = std::bit_ceil(std::max<std::uint64_t>(in.size(), 64u << 10));
  options.dict_size =
      static_cast<std::uint32_t>(std::min<std::uint64_t>(options.dict_size, wanted));
  lzma_filter filters[] = {{LZMA_FILTER_LZMA2, &options}, {LZMA_VLI_UNKNOWN, nullptr}};
  Bytes out(lzma_stream_buffer_bound(in.size()));
  std::size_t size = 0;
  const lzma_ret code =
      lzma_stream_buffer_encode(filters, static_cast<lzma_check>(framing.check), nullptr,
                                reinterpret_cast<const std::uint8_t*>(in.data()), in.size(),
                                reinterpret_cast<std::uint8_t*>(out.data()), &size, out.size());
  if (code != LZMA_OK) return no_memory("xz");
  out.resize(size);
  return out;
}

}  // namespace wexlo::codec
