#include "codec/unpacked.hpp"

#include <fmt/format.h>
#include <zlib.h>

#include <algorithm>
#include <deque>
#include <map>
#include <mutex>

#include "base/source_read.hpp"
#include "codec/formats.hpp"

namespace wexlo {
namespace {

// Small, so that a look at the start of a file costs no more than a few of them.
constexpr std::size_t kIn = 16u << 10;
constexpr std::size_t kChunk = 64u << 10;  ///< the content is decoded and kept by the chunk
constexpr std::size_t kKept = 64;          ///< recent chunks
constexpr std::size_t kMaxStates = 128;    ///< of a decoder that can be copied, about 50 KiB each
constexpr unsigned kRewinds = 2;           ///< as often a stream is decoded again from its start
constexpr std::uint64_t kMaxContent = std::uint64_t{1} << 40;
/// No stock image is packed denser than its file system's free blocks: those are a thousandfold.
constexpr std::uint64_t kRatio = 4096, kRatioFrom = 1u << 30;

/// Where decoding stands, and all that is needed to go on from there.
struct Position {
  std::unique_ptr<Decoder> decoder;
  std::uint64_t in_at = 0;   ///< bytes of the packed source that were taken
  std::uint64_t out_at = 0;  ///< bytes of the content that were given
  std::uint32_t crc = 0;
  bool ended = false;

  Position copy() const {
    return {decoder ? decoder->clone() : nullptr, in_at, out_at, crc, ended};
  }
};

class Unpacked final : public Source {
 public:
  Unpacked(Packed packed, std::string name, std::uint64_t memory, std::stop_token stop)
      : Source(std::move(name)),
        packed_(std::move(packed)),
        memory_(memory),
        stop_(std::move(stop)) {
    rewind();
  }

  std::uint64_t size() const override { return size_; }
  const void* stream() const override {
    const void* outer = packed_.source->stream();
    return outer != nullptr ? outer : this;
  }
  std::string own_check() const override;
  std::string remark() const override {
    const std::lock_guard lock(mutex_);
    if (behind_ == 0) return packed_.source->remark();
    return fmt::format("{} bytes behind the {} data are not a part of it, and were passed over.",
                       behind_, compression_name(packed_.kind));
  }

  Status read_at(std::uint64_t offset, MutableView out) const override {
    WEXLO_CHECK(check_range(*this, offset, out.size()));
    const std::lock_guard lock(mutex_);
    while (!out.empty()) {
      WEXLO_TRY(const View chunk, chunk_at(offset / kChunk));
      const auto inside = static_cast<std::size_t>(offset % kChunk);
      if (inside >= chunk.size())
        return fail(size_mismatch(offset / kChunk * kChunk + chunk.size()));
      const std::size_t count = std::min(out.size(), chunk.size() - inside);
      std::ranges::copy(chunk.subspan(inside, count), out.begin());
      out = out.subspan(count);
      offset += count;
    }
    return {};
  }

  /// Decodes all of it once. Errors: those of decoding, LimitExceeded, Interrupted.
  Status count(const Context& context) {
    const std::lock_guard lock(mutex_);
    const std::uint64_t most = context.decode_bound != 0 ? context.decode_bound : kMaxContent;
    size_ = kMaxContent;
    while (!now_.ended) {
      WEXLO_CHECK(decode_chunk());
      const bool bomb = context.decode_bound == 0 && now_.out_at > kRatioFrom &&
                        now_.out_at / kRatio > packed_.source->size();
      if (now_.out_at > most || bomb)
        return fail({.code = ErrorCode::LimitExceeded,
                     .message = "the content is too large for what it is packed in",
                     .file = name(),
                     .expected = fmt::format("at most {} bytes",
                                             bomb ? packed_.source->size() * kRatio : most),
                     .found = fmt::format("{} bytes and more", now_.out_at),
                     .hint = "If you trust the file, raise the bound: --limit SIZE."});
    }
    size_ = now_.out_at;
    return {};
  }
  void promise(std::uint64_t size) { size_ = size; }

 private:
  Error size_mismatch(std::uint64_t found) const {
    return {.code = ErrorCode::Corrupt,
            .message = "the content's size is not what was promised",
            .file = name(),
            .expected = fmt::format("{} bytes", size_),
            .found = fmt::format("{} bytes", found),
            .hint = "Fetch the file again; compare its digest with the source's."};
  }

  void rewind() const {
    now_ = {};
    now_.decoder = make_decoder(packed_.kind, memory_);
  }

  Result<View> chunk_at(std::uint64_t index) const {
    if (const auto kept = kept_.find(index); kept != kept_.end()) return View(kept->second);
    const std::uint64_t wanted = index * kChunk;
    if (spill_ && wanted < spilled_) {
      Bytes& chunk = keep(index);
      chunk.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kChunk, spilled_ - wanted)));
      WEXLO_CHECK(spill_->read_at(wanted, chunk));
      return View(chunk);
    }
    if (wanted < now_.out_at) WEXLO_CHECK(go_back(wanted));
    while (now_.out_at <= wanted && !now_.ended)
      WEXLO_CHECK(decode_chunk());
    if (const auto kept = kept_.find(index); kept != kept_.end()) return View(kept->second);
    return fail(size_mismatch(now_.out_at));
  }

  /// To the last kept state before `wanted`, else to the start.
  Status go_back(std::uint64_t wanted) const {
    auto state = states_.upper_bound(wanted);
    if (state != states_.begin()) {
      now_ = (--state)->second.copy();
      if (now_.decoder) return {};
    }
    rewind();
    if (!states_.empty() || spill_ || ++rewinds_ < kRewinds) return {};
    // It is being jumped about in: from now on what was decoded is kept.
    WEXLO_TRY(spill_, Scratch::create());
    return {};
  }

  Bytes& keep(std::uint64_t index) const {
    while (order_.size() >= kKept) {
      kept_.erase(order_.front());
      order_.pop_front();
    }
    order_.push_back(index);
    return kept_[index];
  }

  /// The next chunk of the content; short at the end only.
  Status decode_chunk() const {
    WEXLO_CHECK(check_stop({.stop = stop_}));
    const std::uint64_t begin = now_.out_at;
    Bytes chunk(kChunk);
    std::size_t size = 0;
    auto filled = fill(chunk, size);
    if (!filled) {
      rewind();  // a later read meets the same failure, not a state half way
      return fail(in_file(std::move(filled).error(), name()));
    }
    chunk.resize(size);
    if (packed_.crc)
      now_.crc = static_cast<std::uint32_t>(
          crc32(now_.crc, reinterpret_cast<const Bytef*>(chunk.data()), static_cast<uInt>(size)));
    now_.out_at += size;
    if (now_.ended && size_ != kMaxContent) WEXLO_CHECK(check_end());
    if (now_.out_at > size_) return fail(size_mismatch(now_.out_at));
    if (spill_ && begin == spilled_) {
      WEXLO_CHECK(spill_->write_at(begin, chunk));
      spilled_ += size;
    }
    if (!kept_.contains(begin / kChunk) && size > 0) keep(begin / kChunk) = std::move(chunk);
    remember();
    return {};
  }

  Status check_end() const {
    if (now_.out_at != size_) return fail(size_mismatch(now_.out_at));
    if (!packed_.crc || *packed_.crc == now_.crc) return {};
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "the content does not have the promised CRC-32",
                 .file = name(),
                 .expected = fmt::format("{:08x}", *packed_.crc),
                 .found = fmt::format("{:08x}", now_.crc),
                 .hint = "The package is damaged: fetch it again."});
  }

  Status fill(MutableView chunk, std::size_t& size) const {
    while (size < chunk.size() && !now_.ended) {
      WEXLO_TRY(const View in, input());
      const bool last = now_.in_at + in.size() == packed_.source->size();
      auto step = now_.decoder->step(in, chunk.subspan(size), last);
      if (!step) return fail(at_base(std::move(step).error(), 0));
      now_.in_at += step->consumed - step->returned;
      size += step->produced;
      if (step->done)
        WEXLO_CHECK(next_stream());
      else if (step->consumed == 0 && step->produced == 0)
        return codec::cut_short(compression_name(packed_.kind));
    }
    // The end is looked for as soon as the last byte is out: its check shall not be missed.
    if (size == chunk.size() && !now_.ended && now_.out_at + size >= size_) {
      std::byte more[1];
      std::size_t extra = 0;
      while (!now_.ended && extra == 0) {
        WEXLO_TRY(const View in, input());
        const bool last = now_.in_at + in.size() == packed_.source->size();
        auto step = now_.decoder->step(in, more, last);
        if (!step) return fail(std::move(step).error());
        now_.in_at += step->consumed - step->returned;
        extra += step->produced;
        if (step->done)
          WEXLO_CHECK(next_stream());
        else if (step->consumed == 0 && step->produced == 0)
          return codec::cut_short(compression_name(packed_.kind));
      }
      if (extra != 0) return fail(size_mismatch(now_.out_at + size + extra));
    }
    return {};
  }

  /// The packed bytes at now_.in_at, from a buffer of the last read.
  Result<View> input() const {
    if (now_.in_at < in_at_ || now_.in_at >= in_at_ + in_.size()) {
      const std::uint64_t left = packed_.source->size() - now_.in_at;
      in_.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kIn, left)));
      in_at_ = now_.in_at;
      WEXLO_CHECK(packed_.source->read_at(in_at_, in_));
    }
    return View(in_).subspan(static_cast<std::size_t>(now_.in_at - in_at_));
  }

  /// After a stream's end: another of the same kind, or the end of the content. Between streams,
  /// and behind the last one, stands what the usual programs pass over: padding of zeros, skippable
  /// frames. Anything else is not the content's, and is remarked on.
  Status next_stream() const {
    now_.ended = true;
    if (!packed_.joined) return {};
    constexpr std::size_t kHead = 16;
    const bool skips = packed_.kind == Compression::Zstd || packed_.kind == Compression::Lz4Frame;
    std::uint64_t at = now_.in_at;
    for (;;) {
      WEXLO_TRY(const Bytes start, read_some(*packed_.source, at, kHead));
      const auto skipped = skips ? skippable_frame(start) : std::nullopt;
      if (skipped) {
        if (*skipped > packed_.source->size() - at)
          return codec::cut_short(compression_name(packed_.kind));
        at += *skipped;
      } else if (packed_.kind == Compression::Xz && start.size() >= 4 &&
                 all_bytes(View(start).first(4), std::byte{0})) {
        at += 4;  // xz pads its streams with zero words
      } else if (detect_compression(start) == packed_.kind) {
        now_.in_at = at;
        now_.decoder = make_decoder(packed_.kind, memory_);
        now_.ended = false;
        return {};
      } else {
        return look_behind(at);
      }
    }
  }

  /// Whether there is more than padding behind the content.
  Status look_behind(std::uint64_t at) const {
    const std::uint64_t size = packed_.source->size();
    for (std::uint64_t done = at; done < size; done += kChunk) {
      WEXLO_TRY(const Bytes piece, read_some(*packed_.source, done, kChunk));
      if (all_bytes(piece, std::byte{0})) continue;
      behind_ = size - at;
      break;
    }
    return {};
  }

  /// States lie `spacing_` apart, which doubles when there are too many.
  void remember() const {
    if (now_.ended || (!states_.empty() && now_.out_at < states_.rbegin()->first + spacing_))
      return;
    Position state = now_.copy();
    if (!state.decoder) return;
    states_.emplace(now_.out_at, std::move(state));
    if (states_.size() < kMaxStates) return;
    spacing_ *= 2;
    bool drop = false;
    std::erase_if(states_, [&](const auto&) { return std::exchange(drop, !drop); });
  }

  Packed packed_;
  std::uint64_t memory_, size_ = kMaxContent;
  std::stop_token stop_;
  mutable std::mutex mutex_;
  mutable Position now_;
  mutable Bytes in_;
  mutable std::uint64_t in_at_ = 0;
  mutable std::map<std::uint64_t, Bytes> kept_;
  mutable std::deque<std::uint64_t> order_;
  mutable std::map<std::uint64_t, Position> states_;
  mutable std::uint64_t spacing_ = 4u << 20;
  mutable std::shared_ptr<Scratch> spill_;
  mutable std::uint64_t spilled_ = 0;
  mutable std::uint64_t behind_ = 0;  ///< bytes that are neither content nor padding
  mutable unsigned rewinds_ = 0;
};

std::string Unpacked::own_check() const {
  if (packed_.crc) return "crc-32";
  auto start = read_some(*packed_.source, 0, 16);
  if (const auto skipped = start ? skippable_frame(*start) : std::nullopt)
    start = read_some(*packed_.source, *skipped, 16);
  const auto flag = [&](std::size_t at, unsigned mask) {
    return start && start->size() > at && (std::to_integer<unsigned>((*start)[at]) & mask) != 0;
  };
  switch (packed_.kind) {
    case Compression::Gzip:
    case Compression::Bzip2: return "crc-32";
    case Compression::Zlib: return "adler-32";
    case Compression::Xz: return flag(7, 0x0f) ? "xz check" : "";
    case Compression::Lz4Frame: return flag(4, 4) ? "xxh32" : "";
    case Compression::Zstd: return flag(4, 4) ? "xxh64" : "";
    default: return {};
  }
}

}  // namespace

Result<SourcePtr> open_unpacked(Packed packed, const Context& context) {
  std::string name = packed.name.empty() ? packed.source->name() : packed.name;
  if (!packed.size) packed.size = codec::promised_size(packed.kind, *packed.source);
  const auto promised = packed.size;
  const std::uint64_t memory = std::max<std::uint64_t>(context.decode_bound, 192u << 20);
  auto unpacked =
      std::make_shared<Unpacked>(std::move(packed), std::move(name), memory, context.stop);
  if (promised && *promised <= kMaxContent)
    unpacked->promise(*promised);
  else
    WEXLO_CHECK(unpacked->count(context));
  return unpacked;
}

}  // namespace wexlo
