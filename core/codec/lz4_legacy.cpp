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
    // Whole blocks so far, and one begun whose end is not there: the file is cut short.
    if (last && size != 0 && size <= kMaxCompressed && !short_block_ && left > 0 && left < size)
      return cut_short("lz4");
    // Only the last block may be short, so after one nothing can be a block.
    if (size == 0 || size > kMaxCompressed || short_block_ || (last && left < size))
      return size != 0 && size <= kMaxCompressed && !short_block_ && total_ == 0
                 ? Result<Step>(cut_short("lz4"))
                 : finish(step);
    if (pending_.size() == 4 && in.size() >= size && out.size() - step.produced >= kBlock) {
      // All of the block and room for it: no need to go through buffers.
      const int got = LZ4_decompress_safe(reinterpret_cast<const char*>(in.data()),
                                          reinterpret_cast<char*>(out.data() + step.produced),
                                          static_cast<int>(size), static_cast<int>(kBlock));
      if (got < 0) return corrupt("lz4", "a block does not decode");
      pending_.clear();
      step.consumed += size;
      step.produced += static_cast<std::size_t>(got);
      total_ += static_cast<std::size_t>(got);
      short_block_ = static_cast<std::size_t>(got) < kBlock;
      return step;
    }
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
    const std::size_t own = std::min(pending_.size(), step.consumed);
    step.consumed -= own;
    step.returned = pending_.size() - own;
    step.done = true;
    return step;
  }

  Bytes pending_, block_;
  std::size_t given_ = 0;
  std::uint64_t total_ = 0;
  bool started_ = false, short_block_ = false;
};

int compress(View in, MutableView out, int level) {
  const auto* from = reinterpret_cast<const char*>(in.data());
  auto* to = reinterpret_cast<char*>(out.data());
  const int in_size = static_cast<int>(in.size()), out_size = static_cast<int>(out.size());
  return level < LZ4HC_CLEVEL_MIN ? LZ4_compress_default(from, to, in_size, out_size)
                                  : LZ4_compress_HC(from, to, in_size, out_size, level);
}

/// The blocks of the first stream, size words included. @param rest  bytes behind them
std::vector<View> blocks_of(View encoded, std::size_t& rest) {
  std::vector<View> blocks;
  std::size_t at = 4;
  while (at < encoded.size() && encoded.size() - at > 4) {
    const std::uint32_t size = word(encoded.subspan(at));
    if (size > kMaxCompressed || size > encoded.size() - at - 4) break;
    blocks.push_back(encoded.subspan(at, 4 + std::size_t{size}));
    at += 4 + std::size_t{size};
  }
  rest = encoded.size() - std::min(at, encoded.size());
  return blocks;
}

/// The blocks of a stock stream by their number, where that tells what each of them holds: none of
/// a joined stream, whose short blocks may stand anywhere, nor of one whose blocks are not exactly
/// those that its content needs.
std::vector<View> numbered_blocks(const StockStream& stock) {
  if (stock.encoded.size() <= 4) return {};
  std::size_t rest = 0;
  auto blocks = blocks_of(stock.encoded, rest);
  const bool whole = rest == 0 || rest == 4;  // the word of the size in all, where there is one
  const bool fits = blocks.size() == (stock.decoded.size() + kBlock - 1) / kBlock;
  if (!whole || !fits) blocks.clear();
  return blocks;
}

Status encode_block(View block, int level, Bytes& out) {
  out.resize(4 + static_cast<std::size_t>(LZ4_compressBound(static_cast<int>(block.size()))));
  const int size = compress(block, MutableView(out).subspan(4), level);
  if (size <= 0) return no_memory("lz4");
  store<std::uint32_t, std::endian::little>(out.data(), static_cast<std::uint32_t>(size));
  out.resize(4 + static_cast<std::size_t>(size));
  out.shrink_to_fit();
  return {};
}

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

Result<Bytes> lz4_legacy_encode(View in, const Framing& framing, const Context& context,
                                const StockStream& stock) {
  const int level = framing.level < 0 ? LZ4HC_CLEVEL_MAX : framing.level;
  const std::size_t count = (in.size() + kBlock - 1) / kBlock;
  const auto stock_blocks = numbered_blocks(stock);
  std::vector<Bytes> blocks(count);
  TaskGroup tasks(context);
  for (std::size_t i = 0; i < count; ++i) {
    const View block = in.subspan(i * kBlock, std::min(kBlock, in.size() - i * kBlock));
    const bool there = i < stock_blocks.size();
    const View old = there ? stock.decoded.subspan(
                                 i * kBlock, std::min(kBlock, stock.decoded.size() - i * kBlock))
                           : View{};
    if (there && equal(old, block)) {
      blocks[i] = to_bytes(stock_blocks[i]);
      continue;
    }
    tasks.submit(2 * kBlock,
                 [block, level, &out = blocks[i]] { return encode_block(block, level, out); });
  }
  WEXLO_CHECK(tasks.wait());
  Bytes out;
  LeWriter writer(out);
  writer.put(kMagic);
  for (const Bytes& block : blocks)
    append(out, View(block));
  if (framing.size_trailer) writer.put(static_cast<std::uint32_t>(in.size()));
  return out;
}

bool lz4_gives(Compression kind, View content, View encoded, int level, bool thorough) {
  View stock;
  std::size_t block = kBlock;
  if (kind == Compression::Lz4Legacy) {
    std::size_t rest = 0;
    const auto blocks = blocks_of(encoded, rest);
    if (!blocks.empty()) stock = blocks.front().subspan(4);
  } else if (encoded.size() > 23) {
    const auto flags = std::to_integer<unsigned>(encoded[4]);
    block = std::size_t{256} << 2 * (std::to_integer<unsigned>(encoded[5]) >> 4 & 7);
    const std::size_t at = 7 + (flags & 8 ? 8 : 0) + (flags & 1 ? 4 : 0);
    const std::uint32_t size = word(encoded.subspan(at)) & 0x7fffffff;
    if (size <= encoded.size() - at - 4) stock = encoded.subspan(at + 4, size);
  }
  if (stock.empty() || content.empty()) return false;
  const std::size_t whole = std::min(block, content.size());
  // A short piece does: but for its end it is packed as the whole block's start is. The densest
  // levels look some thousand bytes ahead. A first, shorter one turns most levels away.
  constexpr std::size_t kAhead = 12u << 10;
  for (const std::size_t piece : {std::size_t{128u << 10}, std::size_t{512u << 10}}) {
    const std::size_t size = std::min(piece, whole);
    Bytes out(static_cast<std::size_t>(LZ4_compressBound(static_cast<int>(size))));
    const int got = compress(content.first(size), out, level);
    if (got <= 0) return false;
    out.resize(static_cast<std::size_t>(got));
    if (size == whole) return equal(out, stock);
    if (out.size() <= kAhead || stock.size() < out.size() - kAhead) return false;
    if (!equal(View(out).first(out.size() - kAhead), stock.first(out.size() - kAhead)))
      return false;
    if (!thorough) break;
  }
  return true;
}

}  // namespace wexlo::codec
