/// The lz4 frame over liblz4: docs/formats/lz4-legacy.md has its sibling. One frame is one stream.

#include <lz4frame.h>
#include <lz4hc.h>

#include <algorithm>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

constexpr std::size_t kFrameFlagsAt = 4, kBlockAt = 5, kMaxFrameHeader = 19;
enum FrameFlag : unsigned { Independent = 32, BlockCheck = 16, Size = 8, ContentCheck = 4 };

class Lz4FrameDecoder final : public Decoder {
 public:
  Lz4FrameDecoder() { LZ4F_createDecompressionContext(&context_, LZ4F_VERSION); }
  Lz4FrameDecoder(const Lz4FrameDecoder&) = delete;
  Lz4FrameDecoder& operator=(const Lz4FrameDecoder&) = delete;
  ~Lz4FrameDecoder() override { LZ4F_freeDecompressionContext(context_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    if (context_ == nullptr) return no_memory("lz4");
    std::size_t in_size = in.size(), out_size = out.size();
    const std::size_t code =
        LZ4F_decompress(context_, out.data(), &out_size, in.data(), &in_size, nullptr);
    if (LZ4F_isError(code)) return corrupt("lz4", LZ4F_getErrorName(code));
    Step step{in_size, out_size, code == 0};
    head_.saw(in.first(step.consumed));
    if (step.done && head_.was_skippable()) {
      step.done = last && step.consumed == in.size();
      return step;
    }
    if (!step.done && last && step.consumed == in.size() && step.produced < out.size())
      return cut_short("lz4");
    return step;
  }

 private:
  LZ4F_dctx* context_ = nullptr;
  FrameHead head_;
};

LZ4F_preferences_t preferences(const Framing& framing, std::uint64_t size) {
  LZ4F_preferences_t wanted = LZ4F_INIT_PREFERENCES;
  wanted.autoFlush = 1;
  wanted.compressionLevel = framing.level < 0 ? LZ4HC_CLEVEL_MAX : framing.level;
  wanted.frameInfo.blockSizeID = LZ4F_max4MB;
  wanted.frameInfo.contentChecksumFlag = LZ4F_contentChecksumEnabled;
  if (framing.header.size() <= kBlockAt) return wanted;
  const auto flags = std::to_integer<unsigned>(framing.header[kFrameFlagsAt]);
  const auto block = std::to_integer<unsigned>(framing.header[kBlockAt]) >> 4 & 7;
  if (block >= LZ4F_max64KB) wanted.frameInfo.blockSizeID = static_cast<LZ4F_blockSizeID_t>(block);
  wanted.frameInfo.blockMode = flags & Independent ? LZ4F_blockIndependent : LZ4F_blockLinked;
  wanted.frameInfo.blockChecksumFlag =
      flags & BlockCheck ? LZ4F_blockChecksumEnabled : LZ4F_noBlockChecksum;
  wanted.frameInfo.contentChecksumFlag =
      flags & ContentCheck ? LZ4F_contentChecksumEnabled : LZ4F_noContentChecksum;
  wanted.frameInfo.contentSize = flags & Size ? size : 0;
  return wanted;
}

/// The library wants room for its worst case at each call: what it gives goes through a buffer. It
/// is fed by the block, from one place, as the usual program does: with linked blocks that decides
/// what it finds.
class Lz4FrameEncoder final : public Encoder {
 public:
  Lz4FrameEncoder(const Framing& framing, std::uint64_t size)
      : preferences_(preferences(framing, size)) {
    LZ4F_createCompressionContext(&context_, LZ4F_VERSION);
    constexpr std::size_t kSmallest = 64u << 10;
    block_ = kSmallest << 2 * (preferences_.frameInfo.blockSizeID - LZ4F_max64KB);
    pending_.reserve(block_);
    buffer_.resize(LZ4F_compressBound(block_, &preferences_) + LZ4F_HEADER_SIZE_MAX);
  }
  Lz4FrameEncoder(const Lz4FrameEncoder&) = delete;
  Lz4FrameEncoder& operator=(const Lz4FrameEncoder&) = delete;
  ~Lz4FrameEncoder() override { LZ4F_freeCompressionContext(context_); }

  Result<Step> step(View in, MutableView out, bool last) override {
    Step step;
    step.produced = drain(out);
    if (given_ < filled_ || ended_) {
      step.done = ended_ && given_ == filled_;
      return step;
    }
    const View piece = in.first(std::min(in.size(), block_ - pending_.size()));
    append(pending_, piece);
    step.consumed = piece.size();
    const bool through = last && piece.size() == in.size();
    std::size_t got = 0;
    if (!started_) {
      got = LZ4F_compressBegin(context_, buffer_.data(), buffer_.size(), &preferences_);
      started_ = true;
    } else if (pending_.size() == block_ || (through && !pending_.empty())) {
      got = LZ4F_compressUpdate(context_, buffer_.data(), buffer_.size(), pending_.data(),
                                pending_.size(), nullptr);
      pending_.clear();
    } else if (through) {
      got = LZ4F_compressEnd(context_, buffer_.data(), buffer_.size(), nullptr);
      ended_ = true;
    }
    if (LZ4F_isError(got)) return no_memory("lz4");
    given_ = 0;
    filled_ = got;
    step.produced += drain(out.subspan(step.produced));
    step.done = ended_ && given_ == filled_;
    return step;
  }

 private:
  std::size_t drain(MutableView out) {
    const std::size_t count = std::min(out.size(), filled_ - given_);
    std::copy_n(buffer_.begin() + static_cast<std::ptrdiff_t>(given_), count, out.begin());
    given_ += count;
    return count;
  }
  LZ4F_preferences_t preferences_;
  LZ4F_cctx* context_ = nullptr;
  Bytes buffer_, pending_;
  std::size_t block_ = 0;
  std::size_t given_ = 0, filled_ = 0;
  bool started_ = false, ended_ = false;
};

}  // namespace

std::unique_ptr<Decoder> lz4_frame_decoder(std::uint64_t) {
  return std::make_unique<Lz4FrameDecoder>();
}

EncoderResult lz4_frame_encoder(const Framing& framing, std::uint64_t size) {
  return std::make_unique<Lz4FrameEncoder>(framing, size);
}

Framing lz4_frame_framing(View encoded, std::uint64_t) {
  return {.header = to_bytes(encoded.first(std::min(encoded.size(), kMaxFrameHeader)))};
}

}  // namespace wexlo::codec
