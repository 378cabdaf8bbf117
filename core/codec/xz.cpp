/// xz, and the older lzma alone, over liblzma. One stream is one stream: padding and further
/// streams are for the caller.

#include <lzma.h>

#include <algorithm>

#include "codec/formats.hpp"
#include "codec/settings.hpp"

namespace wexlo::codec {
namespace {

constexpr std::size_t kStreamHeader = 12;
constexpr std::size_t kCheckAt = 7;  ///< stream flags: the id of the integrity check
constexpr std::size_t kLzmaHeader = 13;
/// Presets are told apart by what they search with: the dictionary is taken from the stock stream.
constexpr std::uint32_t kDensestXz = 9u | LZMA_PRESET_EXTREME;

const std::uint8_t* raw(View in) {
  return reinterpret_cast<const std::uint8_t*>(in.data());
}

/// Both formats of the library behind one interface.
class LzmaLibrary {
 public:
  LzmaLibrary() = default;
  LzmaLibrary(const LzmaLibrary&) = delete;
  LzmaLibrary& operator=(const LzmaLibrary&) = delete;
  ~LzmaLibrary() { lzma_end(&stream); }

  lzma_ret run(View in, MutableView out, bool last, CodecStep& step) {
    stream.next_in = raw(in);
    stream.avail_in = in.size();
    stream.next_out = reinterpret_cast<std::uint8_t*>(out.data());
    stream.avail_out = out.size();
    const lzma_ret code = lzma_code(&stream, last ? LZMA_FINISH : LZMA_RUN);
    step.consumed = in.size() - stream.avail_in;
    step.produced += out.size() - stream.avail_out;
    step.done = code == LZMA_STREAM_END;
    return code;
  }
  lzma_stream stream = LZMA_STREAM_INIT;
};

class XzDecoder final : public Decoder {
 public:
  XzDecoder(std::string_view name, std::uint64_t memory_limit) : name_(name) {
    ready_ = (name == "xz" ? lzma_stream_decoder(&library_.stream, memory_limit, 0)
                           : lzma_alone_decoder(&library_.stream, memory_limit)) == LZMA_OK;
  }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (!ready_) return no_memory(name_);
    Step step;
    switch (library_.run(in, out, last, step)) {
      case LZMA_OK:
      case LZMA_STREAM_END: return step;
      case LZMA_BUF_ERROR:
        if (last && step.consumed == in.size() && step.produced < out.size())
          return cut_short(name_);
        return step;
      case LZMA_MEMLIMIT_ERROR: return wants_too_much(name_);
      case LZMA_MEM_ERROR: return no_memory(name_);
      case LZMA_FORMAT_ERROR: return corrupt(name_, "wrong header");
      case LZMA_OPTIONS_ERROR: return corrupt(name_, "it asks for a filter nobody knows");
      default: return corrupt(name_, "its own check does not match");
    }
  }

 private:
  LzmaLibrary library_;
  std::string_view name_;
  bool ready_ = false;
};

class XzEncoder final : public Encoder {
 public:
  explicit XzEncoder(std::string_view name) : name_(name) {}
  LzmaLibrary& library() { return library_; }
  void put_first(View header) { header_ = to_bytes(header); }

  Result<Step> step(View in, MutableView out, bool last) override {
    Step step;
    step.produced = std::min(header_.size(), out.size());
    std::copy_n(header_.begin(), step.produced, out.begin());
    header_.erase(header_.begin(), header_.begin() + static_cast<std::ptrdiff_t>(step.produced));
    const lzma_ret code = library_.run(in, out.subspan(step.produced), last, step);
    if (code == LZMA_MEM_ERROR) return no_memory(name_);
    if (code != LZMA_OK && code != LZMA_STREAM_END && code != LZMA_BUF_ERROR)
      return corrupt(name_, "the library does not take it");
    return step;
  }

 private:
  LzmaLibrary library_;
  std::string_view name_;
  Bytes header_;
};

std::uint32_t preset_of(const Framing& framing) {
  if (framing.level < 0) return kDensestXz;
  return static_cast<std::uint32_t>(framing.level) |
         (framing.variant > 0 ? LZMA_PRESET_EXTREME : 0u);
}

/// Code in words of four bytes packs better by a percent or so when literals are told apart by
/// their place in the word. No maker's setting: it is for a stream that has to become smaller.
void place_literals(const Framing& framing, lzma_options_lzma& options) {
  if (framing.variant != kLiteralsByPlace) return;
  options.lc = options.lp = options.pb = 2;
}

/// What the stock stream's first block says of itself.
struct BlockFacts {
  lzma_check check = LZMA_CHECK_CRC32;  ///< what a kernel decodes
  bool sizes = false;                   ///< written by an encoder of several threads
  std::uint64_t block_size = 0;         ///< of that encoder; 0: one block
  lzma_options_lzma lzma{};
  lzma_vli branch = LZMA_VLI_UNKNOWN;  ///< a filter for machine code in front
  bool known = false;
};

BlockFacts block_facts(View header) {
  BlockFacts facts;
  if (header.size() <= kStreamHeader) return facts;
  facts.check = static_cast<lzma_check>(std::to_integer<unsigned>(header[kCheckAt]) & 15);
  lzma_filter filters[LZMA_FILTERS_MAX + 1];
  lzma_block block{};
  block.version = 0;
  block.check = facts.check;
  block.filters = filters;
  block.header_size =
      (std::to_integer<std::uint32_t>(header[kStreamHeader]) + 1) * 4;  // never decodes wrong sizes
  if (header.size() < kStreamHeader + block.header_size ||
      lzma_block_header_decode(&block, nullptr, raw(header) + kStreamHeader) != LZMA_OK)
    return facts;
  facts.sizes = block.uncompressed_size != LZMA_VLI_UNKNOWN;
  if (facts.sizes) facts.block_size = block.uncompressed_size;
  for (const lzma_filter* filter = filters; filter->id != LZMA_VLI_UNKNOWN; ++filter) {
    if (filter->id == LZMA_FILTER_LZMA2) {
      facts.lzma = *static_cast<lzma_options_lzma*>(filter->options);
      facts.known = true;
    } else {
      facts.branch = filter->id;
    }
  }
  lzma_filters_free(filters, nullptr);
  return facts;
}

}  // namespace

std::unique_ptr<Decoder> xz_decoder(std::uint64_t memory_limit) {
  return std::make_unique<XzDecoder>("xz", memory_limit);
}

Bytes xz_header_without_sizes(View header) {
  const BlockFacts facts = block_facts(header);
  if (!facts.sizes) return to_bytes(header);
  lzma_options_lzma options = facts.lzma;
  lzma_filter filters[3] = {{facts.branch, nullptr}, {LZMA_FILTER_LZMA2, &options}, {}};
  filters[2].id = LZMA_VLI_UNKNOWN;
  lzma_block block{};
  block.check = facts.check;
  block.compressed_size = block.uncompressed_size = LZMA_VLI_UNKNOWN;
  block.filters = facts.branch == LZMA_VLI_UNKNOWN ? filters + 1 : filters;
  if (lzma_block_header_size(&block) != LZMA_OK) return to_bytes(header);
  Bytes out = to_bytes(header.first(kStreamHeader));
  out.resize(kStreamHeader + block.header_size);
  auto* at = reinterpret_cast<std::uint8_t*>(out.data()) + kStreamHeader;
  return lzma_block_header_encode(&block, at) == LZMA_OK ? out : to_bytes(header);
}

std::unique_ptr<Decoder> lzma_decoder(std::uint64_t memory_limit) {
  return std::make_unique<XzDecoder>("lzma", memory_limit);
}

Framing xz_framing(View encoded, std::uint64_t) {
  if (encoded.size() <= kStreamHeader) return {};
  const std::size_t block = (std::to_integer<std::size_t>(encoded[kStreamHeader]) + 1) * 4;
  return {.header = to_bytes(encoded.first(std::min(encoded.size(), kStreamHeader + block)))};
}

Framing lzma_framing(View encoded, std::uint64_t) {
  return {.header = to_bytes(encoded.first(std::min(encoded.size(), kLzmaHeader)))};
}

EncoderResult xz_encoder(const Framing& framing, std::uint64_t size) {
  const BlockFacts facts = block_facts(framing.header);
  lzma_options_lzma options;
  if (lzma_lzma_preset(&options, preset_of(framing))) return corrupt("xz", "no such preset");
  place_literals(framing, options);
  if (facts.known) {
    options.dict_size = facts.lzma.dict_size;
  } else {
    // No larger than the content: a kernel has to allocate the dictionary early in the start.
    const std::uint64_t wanted = std::bit_ceil(std::max<std::uint64_t>(size, 64u << 10));
    options.dict_size =
        static_cast<std::uint32_t>(std::min<std::uint64_t>(options.dict_size, wanted));
  }
  std::vector<lzma_filter> filters;
  if (facts.branch != LZMA_VLI_UNKNOWN) filters.push_back({facts.branch, nullptr});
  filters.push_back({LZMA_FILTER_LZMA2, &options});
  filters.push_back({LZMA_VLI_UNKNOWN, nullptr});
  auto encoder = std::make_unique<XzEncoder>("xz");
  lzma_stream& stream = encoder->library().stream;
  lzma_ret code = LZMA_OK;
  if (facts.sizes) {
    lzma_mt mt{};
    mt.threads = 1;
    mt.block_size = std::max<std::uint64_t>(facts.block_size, 1u << 20);
    mt.filters = filters.data();
    mt.check = facts.check;
    code = lzma_stream_encoder_mt(&stream, &mt);
  } else {
    code = lzma_stream_encoder(&stream, filters.data(), facts.check);
  }
  if (code != LZMA_OK) return no_memory("xz");
  return encoder;
}

EncoderResult lzma_encoder(const Framing& framing, std::uint64_t size) {
  lzma_options_lzma options;
  if (lzma_lzma_preset(&options, preset_of(framing))) return corrupt("lzma", "no such preset");
  bool size_known = false;
  if (framing.header.size() == kLzmaHeader) {
    const auto properties = std::to_integer<std::uint32_t>(framing.header[0]);
    options.lc = properties % 9;
    options.lp = properties / 9 % 5;
    options.pb = properties / 45;
    options.dict_size = load<std::uint32_t, std::endian::little>(framing.header.data() + 1);
    size_known = load<std::uint64_t, std::endian::little>(framing.header.data() + 5) != ~0ull;
  } else {
    const std::uint64_t wanted = std::bit_ceil(std::max<std::uint64_t>(size, 64u << 10));
    options.dict_size =
        static_cast<std::uint32_t>(std::min<std::uint64_t>(options.dict_size, wanted));
  }
  place_literals(framing, options);
  Bytes header;
  LeWriter writer(header);
  writer.put(static_cast<std::uint8_t>((options.pb * 5 + options.lp) * 9 + options.lc));
  writer.put(options.dict_size);
  writer.put(size_known ? size : ~std::uint64_t{0});
  // A stream of known size needs no end mark, and most readers refuse one.
  options.ext_flags = size_known ? 0 : LZMA_LZMA1EXT_ALLOW_EOPM;
  lzma_set_ext_size(options, size_known ? size : LZMA_VLI_UNKNOWN);
  options.dict_size = std::max<std::uint32_t>(options.dict_size, LZMA_DICT_SIZE_MIN);
  lzma_filter filters[] = {{LZMA_FILTER_LZMA1EXT, &options}, {LZMA_VLI_UNKNOWN, nullptr}};
  auto encoder = std::make_unique<XzEncoder>("lzma");
  if (lzma_raw_encoder(&encoder->library().stream, filters) != LZMA_OK) return no_memory("lzma");
  encoder->put_first(header);
  return encoder;
}

}  // namespace wexlo::codec
