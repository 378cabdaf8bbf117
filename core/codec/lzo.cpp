/// lzop files over liblzo2: a header, then blocks of their own, each with its sums. Kernels take
/// them as ramdisks and as their own payload; blocks are 256 KiB there.

#include <lzo/lzo1x.h>
#include <zlib.h>

#include <algorithm>
#include <cstring>

#include "codec/formats.hpp"

namespace wexlo::codec {
namespace {

constexpr std::string_view kLzoMagic{"\x89LZO\0\r\n\x1a\n", 9};
constexpr std::size_t kLzoBlock = 256u << 10;
constexpr std::uint32_t kMostLzoBlock = 64u << 20;  ///< lzop's own bound
constexpr unsigned kVersionWithLevel = 0x0940;
constexpr std::uint32_t kAdlerOfData = 0x1, kAdlerOfPacked = 0x2, kExtraField = 0x40,
                        kCrcOfData = 0x100, kCrcOfPacked = 0x200, kFilter = 0x800,
                        kCrcOfHeader = 0x1000;

std::uint32_t be_word(View in, std::size_t at) {
  return load<std::uint32_t, BE>(in.data() + at);
}
unsigned be_half(View in, std::size_t at) {
  return load<std::uint16_t, BE>(in.data() + at);
}

std::uint32_t lzo_sum(View bytes, bool crc) {
  const auto* data = reinterpret_cast<const Bytef*>(bytes.data());
  const auto size = static_cast<uInt>(bytes.size());
  return static_cast<std::uint32_t>(crc ? crc32(0, data, size) : adler32(1, data, size));
}

struct LzoHeader {
  std::size_t size = 0;  ///< bytes; 0: `need` are needed to tell
  std::size_t need = 0;
  std::uint32_t flags = 0;
  bool damaged = false;
};

/// Reads as far as the bytes go.
LzoHeader read_lzo_header(View in) {
  std::size_t at = kLzoMagic.size() + 4;
  if (in.size() < at) return {.need = at};
  const bool newer = be_half(in, kLzoMagic.size()) >= kVersionWithLevel;
  at += newer ? 2 + 1 + 1 : 1;
  if (in.size() < at + 4) return {.need = at + 4};
  LzoHeader out{.flags = be_word(in, at)};
  at += 4 + ((out.flags & kFilter) != 0 ? 4 : 0) + 4 + 4 + (newer ? 4 : 0);
  if (in.size() < at + 1) return {.need = at + 1};
  at += 1 + std::to_integer<std::size_t>(in[at]);
  if (in.size() < at + 4) return {.need = at + 4};
  out.damaged = be_word(in, at) != lzo_sum(in.subspan(kLzoMagic.size(), at - kLzoMagic.size()),
                                           (out.flags & kCrcOfHeader) != 0);
  at += 4;
  if ((out.flags & kExtraField) != 0) {
    if (in.size() < at + 4) return {.need = at + 4};
    const std::size_t extra = be_word(in, at);
    if (extra > kMostLzoBlock) return {.size = at, .damaged = true};
    at += 4 + extra + 4;
    if (in.size() < at) return {.need = at};
  }
  out.size = at;
  return out;
}

/// Bytes that are made and wait for room.
struct Waiting {
  Bytes bytes{};
  std::size_t given = 0;

  void put(Bytes more) {
    bytes = std::move(more);
    given = 0;
  }
  /// Gives as much as `out` has room for. True: nothing waits any more.
  bool give(MutableView out, CodecStep& step) {
    const std::size_t part = std::min(out.size() - step.produced, bytes.size() - given);
    std::ranges::copy(View(bytes).subspan(given, part), out.subspan(step.produced).begin());
    given += part;
    step.produced += part;
    return given == bytes.size();
  }
};

class LzoDecoder final : public Decoder {
 public:
  explicit LzoDecoder(std::uint64_t memory_limit) : limit_(memory_limit) {}

  Result<Step> step(View in, MutableView out, bool last) override {
    Step step;
    for (;;) {
      if (!ready_.give(out, step)) return step;
      if (stage_ == Stage::End) {
        step.done = true;
        return step;
      }
      const std::size_t more = std::min(need_ - have_.size(), in.size() - step.consumed);
      append(have_, in.subspan(step.consumed, more));
      step.consumed += more;
      if (have_.size() < need_) {
        if (last && step.consumed == in.size()) return cut_short("lzo");
        return step;
      }
      WEXLO_CHECK(next());
    }
  }

  std::unique_ptr<Decoder> clone() const override { return std::make_unique<LzoDecoder>(*this); }

 private:
  enum class Stage : std::uint8_t { Header, Size, Sums, Data, End };

  void want(Stage stage, std::size_t bytes) {
    stage_ = stage;
    need_ = bytes;
    have_.clear();
  }

  /// What was waited for is there.
  Status next() {
    switch (stage_) {
      case Stage::Header: return header();
      case Stage::Size: return size();
      case Stage::Sums: return sums();
      case Stage::Data: return data();
      case Stage::End: break;
    }
    return {};
  }

  Status header() {
    if (!as_text(have_).starts_with(kLzoMagic.substr(0, have_.size())))
      return corrupt("lzo", "wrong magic");
    const LzoHeader read = read_lzo_header(have_);
    if (read.size == 0) {
      need_ = read.need;
      return {};
    }
    if (read.damaged) return corrupt("lzo", "the header's sum does not match");
    flags_ = read.flags;
    want(Stage::Size, 4);
    return {};
  }

  Status size() {
    plain_ = be_word(have_, 0);
    if (plain_ == 0) {
      stage_ = Stage::End;
      return {};
    }
    if (plain_ > kMostLzoBlock) return corrupt("lzo", "a block is too large");
    if (plain_ > limit_) return wants_too_much("lzo");
    const auto one = [&](std::uint32_t flag) { return (flags_ & flag) != 0 ? 4u : 0u; };
    // How many sums there are depends on whether the block is packed: its size comes first.
    data_sums_ = one(kAdlerOfData) + one(kCrcOfData);
    packed_sums_ = one(kAdlerOfPacked) + one(kCrcOfPacked);
    want(Stage::Sums, 4);
    return {};
  }

  Status sums() {
    packed_ = be_word(have_, 0);
    if (packed_ == 0 || packed_ > plain_)
      return corrupt("lzo", "a block is larger than its content");
    const std::size_t whole = 4 + data_sums_ + (packed_ < plain_ ? packed_sums_ : 0);
    if (need_ < whole) {
      need_ = whole;
      return {};
    }
    promised_ = data_sums_ != 0 ? be_word(have_, 4) : 0;
    want(Stage::Data, packed_);
    return {};
  }

  Status data() {
    Bytes plain;
    if (packed_ == plain_) {
      plain = have_;
    } else {
      plain.resize(plain_);
      lzo_uint size = plain_;
      const int code =
          lzo1x_decompress_safe(reinterpret_cast<const unsigned char*>(have_.data()), have_.size(),
                                reinterpret_cast<unsigned char*>(plain.data()), &size, nullptr);
      if (code != LZO_E_OK || size != plain_) return corrupt("lzo", "not a valid block");
    }
    if (data_sums_ != 0 && promised_ != lzo_sum(plain, (flags_ & kAdlerOfData) == 0))
      return corrupt("lzo", "a block's sum does not match");
    ready_.put(std::move(plain));
    want(Stage::Size, 4);
    return {};
  }

  std::uint64_t limit_;
  Stage stage_ = Stage::Header;
  std::size_t need_ = kLzoMagic.size();
  Bytes have_;
  Waiting ready_;
  std::uint32_t flags_ = 0, plain_ = 0, packed_ = 0, promised_ = 0;
  std::size_t data_sums_ = 0, packed_sums_ = 0;  ///< bytes
};

/// What a kernel takes: one sum of each block's content, no file name, no time.
Bytes lzo_header() {
  Bytes out = to_bytes(std::string(kLzoMagic));
  BeWriter write(out);
  write.put<std::uint16_t>(0x1030);
  write.put<std::uint16_t>(0x20A0);
  write.put<std::uint16_t>(kVersionWithLevel);
  write.put<std::uint8_t>(3);  // LZO1X-999
  write.put<std::uint8_t>(9);
  write.put<std::uint32_t>(kAdlerOfData);
  for (int i = 0; i < 3; ++i)
    write.put<std::uint32_t>(0);
  write.put<std::uint8_t>(0);
  write.put<std::uint32_t>(lzo_sum(View(out).subspan(kLzoMagic.size()), false));
  return out;
}

class LzoEncoder final : public Encoder {
 public:
  explicit LzoEncoder(const Framing& framing)
      : ready_{framing.header.empty() ? lzo_header() : framing.header},
        flags_(read_lzo_header(ready_.bytes).flags),
        level_(framing.level < 0 ? 9 : framing.level),
        work_(LZO1X_999_MEM_COMPRESS) {}

  Result<Step> step(View in, MutableView out, bool last) override {
    Step step;
    for (;;) {
      if (!ready_.give(out, step)) return step;
      if (ended_) {
        step.done = true;
        return step;
      }
      const std::size_t more = std::min(kLzoBlock - have_.size(), in.size() - step.consumed);
      append(have_, in.subspan(step.consumed, more));
      step.consumed += more;
      const bool end = last && step.consumed == in.size();
      if (have_.size() < kLzoBlock && !end) return step;
      WEXLO_CHECK(block(end && have_.size() < kLzoBlock));
    }
  }

 private:
  Status block(bool end) {
    Bytes block;
    BeWriter write(block);
    if (!have_.empty()) {
      Bytes packed(have_.size() + have_.size() / 16 + 64 + 3);
      lzo_uint size = packed.size();
      if (lzo1x_999_compress_level(reinterpret_cast<const unsigned char*>(have_.data()),
                                   have_.size(), reinterpret_cast<unsigned char*>(packed.data()),
                                   &size, work_.data(), nullptr, 0, nullptr, level_) != LZO_E_OK)
        return corrupt("lzo", "the library does not take it");
      const bool smaller = size < have_.size();
      const View data = smaller ? View(packed).first(size) : View(have_);
      write.put(static_cast<std::uint32_t>(have_.size()));
      write.put(static_cast<std::uint32_t>(data.size()));
      const auto sum = [&](std::uint32_t flag, View of, bool crc) {
        if ((flags_ & flag) != 0) write.put(lzo_sum(of, crc));
      };
      sum(kAdlerOfData, have_, false);
      sum(kCrcOfData, have_, true);
      if (smaller) {
        sum(kAdlerOfPacked, data, false);
        sum(kCrcOfPacked, data, true);
      }
      write.put(data);
    }
    have_.clear();
    ended_ = end;
    if (end) write.put<std::uint32_t>(0);
    ready_.put(std::move(block));
    return {};
  }

  Waiting ready_;
  std::uint32_t flags_;
  int level_;
  std::vector<unsigned char> work_;
  Bytes have_;
  bool ended_ = false;
};

}  // namespace

std::unique_ptr<Decoder> lzo_decoder(std::uint64_t memory_limit) {
  return std::make_unique<LzoDecoder>(memory_limit);
}

EncoderResult lzo_encoder(const Framing& framing, std::uint64_t) {
  return std::make_unique<LzoEncoder>(framing);
}

Framing lzo_framing(View encoded, std::uint64_t) {
  Framing out;
  const LzoHeader header = read_lzo_header(encoded);
  if (header.size != 0 && !header.damaged) out.header = to_bytes(encoded.first(header.size));
  return out;
}

}  // namespace wexlo::codec
