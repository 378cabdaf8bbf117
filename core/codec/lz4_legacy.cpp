/// The lz4 legacy frame over liblz4's block functions: docs/formats/lz4-legacy.md.

#include <lz4.h>
#include <lz4hc.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

constexpr std::uint32_t kMagic = 0x184C2102;
constexpr std::size_t kBlock = 8u << 20;  ///< every block but the last decodes to exactly this
/// The most an incompressible block can take; a larger size word is no block.
constexpr std::size_t kMaxCompressed = kBlock + kBlock / 255 + 16;

std::uint32_t word(View at) {
  return load<std::uint32_t, std::endian::little>(at.data());
}

/// The format has no end mark, so each step looks at the next size word to know whether a block
/// follows; blocks are decoded whole into a buffer of their own and handed out from there.
class Lz4LegacyDecoder final : public Decoder {
 public:
  Result<Step> step(View in, MutableView out, bool last) override {
    Step step;
    step.produced = drain(out);
    if (given_ < block_.size()) return step;
    const auto need = [&](std::size_t count) { return pending_.size() + in.size() >= count; };
    // Input arrives in pieces; what a decision needs is gathered in `pending_` first.
    const auto gather = [&](std::size_t count) {
      const std::size_t take = std::min(in.size(), count - std::min(count, pending_.size()));
      append(pending_, in.first(take));
      in = in.subspan(take);
      step.consumed += take;
    };
    if (!started_) {
      if (!need(4)) return last ? Result<Step>(cut_short("lz4")) : (gather(4), step);
      gather(4);
      if (word(pending_) != kMagic) return corrupt("lz4", "wrong magic");
      pending_.clear();
      started_ = true;
    }
    if (!need(4)) {
      if (!last) return gather(4), step;
      // Fewer than four bytes cannot be a block: they follow the stream.
      return finish(step);
    }
    gather(4);
    const std::uint32_t size = word(pending_);
    if (size == kMagic) {  // a concatenated stream
      pending_.clear();
      short_block_ = false;
      return step;
    }
    const std::size_t left = in.size() + pending_.size() - 4;
    const bool is_total = size == static_cast<std::uint32_t>(total_) && total_ > 0;
    if (last && is_total && ends_here(in)) {  // the trailing-size word: part of the stream
      pending_.clear();
      step.done = true;
      return step;
    }
    // Only the last block may be short, so after one nothing can be a block.
    if (size == 0 || size > kMaxCompressed || short_block_ || (last && left < size))
      return size != 0 && size <= kMaxCompressed && !short_block_ && total_ == 0
                 ? Result<Step>(cut_short("lz4"))
                 : finish(step);
    if (!need(4 + std::size_t{size})) return gather(4 + std::size_t{size}), step;
    gather(4 + std::size_t{size});
    block_.resize(kBlock);
    const int got = LZ4_decompress_safe(reinterpret_cast<const char*>(pending_.data() + 4),
                                        reinterpret_cast<char*>(block_.data()),
                                        static_cast<int>(size), static_cast<int>(kBlock));
    if (got < 0) return corrupt("lz4", "a block does not decode");
    pending_.clear();
    block_.resize(static_cast<std::size_t>(got));
    given_ = 0;
    total_ += block_.size();
    short_block_ = block_.size() < kBlock;
    step.produced += drain(out.subspan(step.produced));
    return step;
  }

 private:
  /// After the size word comes nothing, zeros, or (behind a kernel) a device tree.
  static bool ends_here(View rest) {
    if (rest.size() >= 4 && word(rest) == 0xEDFE0DD0) return true;
    return all_bytes(rest.first(std::min<std::size_t>(rest.size(), 4)), std::byte{0});
  }

  std::size_t drain(MutableView out) {
    const std::size_t count = std::min(out.size(), block_.size() - given_);
    std::copy_n(block_.begin() + static_cast<std::ptrdiff_t>(given_), count, out.begin());
    given_ += count;
    return count;
  }

  /// The stream ended before what was gathered: those bytes are given back.
  Result<Step> finish(Step step) {
    if (total_ == 0 && !short_block_) return cut_short("lz4");
    if (pending_.size() > step.consumed)
      return corrupt("lz4", "bytes follow the last block and do not form one");
    step.consumed -= pending_.size();
    step.done = true;
    return step;
  }

  Bytes pending_, block_;
  std::size_t given_ = 0;
  std::uint64_t total_ = 0;
  bool started_ = false, short_block_ = false;
};

}  // namespace

std::unique_ptr<Decoder> lz4_legacy_decoder(std::uint64_t) {
  return std::make_unique<Lz4LegacyDecoder>();
}

Framing lz4_legacy_framing(View encoded, std::uint64_t decoded_size) {
  // A trailer can only be told from a last block by walking the blocks: the decoder has consumed
  // the stream, so the last word is a trailer exactly when the blocks end before it.
  std::size_t at = 4;
  while (encoded.size() - at > 4) {
    const std::uint32_t size = word(encoded.subspan(at));
    if (size == kMagic) {
      at += 4;
    } else if (encoded.size() - at - 4 >= size) {
      at += 4 + std::size_t{size};
    } else {
      break;
    }
    if (encoded.size() < at) break;
  }
  Framing framing;
  framing.size_trailer = encoded.size() - at == 4 &&
                         word(encoded.subspan(at)) == static_cast<std::uint32_t>(decoded_size);
  return framing;
}

Result<Bytes> lz4_legacy_encode(View in, const Framing& framing) {
  Bytes out;
  LeWriter writer(out);
  writer.put(kMagic);
  const int level = framing.level < 0 ? LZ4HC_CLEVEL_MAX : framing.level;
  for (std::size_t at = 0; at < in.size(); at += kBlock) {
    const View block = in.subspan(at, std::min(kBlock, in.size() - at));
    const std::size_t head = out.size();
    out.resize(head + 4 + static_cast<std::size_t>(LZ4_compressBound(static_cast<int>(kBlock))));
    const int size = LZ4_compress_HC(
        reinterpret_cast<const char*>(block.data()), reinterpret_cast<char*>(out.data() + head + 4),
        static_cast<int>(block.size()), static_cast<int>(out.size() - head - 4), level);
    if (size <= 0) return no_memory("lz4");
    store<std::uint32_t, std::endian::little>(out.data() + head, static_cast<std::uint32_t>(size));
    out.resize(head + 4 + static_cast<std::size_t>(size));
  }
  if (framing.size_trailer) writer.put(static_cast<std::uint32_t>(in.size()));
  return out;
}

}  // namespace wexlo::codec
