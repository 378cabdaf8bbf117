#include "firmware/bsdiff.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "codec/codec.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kClassic = "BSDIFF40", kNewer = "BSDF2";
constexpr std::size_t kDeltaHeader = 32, kDeltaPiece = 128u << 10;

Error bad_delta(std::string message) {
  return {.code = ErrorCode::Corrupt,
          .message = "the patch is damaged: " + std::move(message),
          .hint = "Fetch the package again; compare its digest with the source's."};
}

/// Sign and magnitude: bit 63 is the sign.
std::int64_t signed_at(View at, std::size_t offset) {
  const auto raw = load<std::uint64_t, std::endian::little>(at.data() + offset);
  const auto magnitude = static_cast<std::int64_t>(raw & ~(std::uint64_t{1} << 63));
  return raw >> 63 != 0 ? -magnitude : magnitude;
}

/// One of the three streams, unpacked as it is read.
class PackedStream {
 public:
  PackedStream(View in, Compression kind)
      : in_(in), decoder_(kind == Compression::None ? nullptr : make_decoder(kind)) {}

  /// Exactly as many bytes. Errors: Truncated, Corrupt.
  Status read(MutableView out) {
    while (!out.empty()) {
      if (decoder_ == nullptr) {
        if (in_.size() < out.size()) return fail(bad_delta("a stream ends too early"));
        std::ranges::copy(in_.first(out.size()), out.begin());
        in_ = in_.subspan(out.size());
        return {};
      }
      WEXLO_TRY(const CodecStep step, decoder_->step(in_, out, true));
      in_ = in_.subspan(step.consumed);
      out = out.subspan(step.produced);
      const bool stuck = step.consumed == 0 && step.produced == 0;
      if (!out.empty() && (step.done || stuck)) return fail(bad_delta("a stream ends too early"));
    }
    return {};
  }

 private:
  View in_;
  std::unique_ptr<Decoder> decoder_;
};

Result<Compression> compressor(std::byte id) {
  switch (std::to_integer<int>(id)) {
    case 0: return Compression::None;
    case 1: return Compression::Bzip2;
    case 2: return Compression::Brotli;
    default:
      return fail(
          {.code = ErrorCode::Unsupported,
           .message = fmt::format("the patch is packed by compressor {}", std::to_integer<int>(id)),
           .expected = "0 (none), 1 (bzip2) or 2 (brotli)"});
  }
}

class Patcher {
 public:
  Patcher(const OldBytes& old, const WriteBytes& write) : old_(old), write_(write) {}

  Status run(PackedStream& control, PackedStream& diff, PackedStream& extra, std::int64_t size) {
    std::int64_t made = 0;
    while (made < size) {
      std::array<std::byte, 24> raw;
      WEXLO_CHECK(control.read(raw));
      const std::int64_t add = signed_at(raw, 0), copy = signed_at(raw, 8);
      const std::int64_t seek = signed_at(raw, 16);
      if (add < 0 || copy < 0 || add > size - made || copy > size - made - add)
        return fail(bad_delta("it writes past the end"));
      WEXLO_CHECK(add_old(diff, add));
      WEXLO_CHECK(take(extra, copy));
      made += add + copy;
      if (__builtin_add_overflow(at_, seek, &at_)) return fail(bad_delta("it seeks out of range"));
    }
    return {};
  }

 private:
  Status add_old(PackedStream& diff, std::int64_t count) {
    while (count > 0) {
      const MutableView piece = MutableView(piece_).first(
          static_cast<std::size_t>(std::min<std::int64_t>(count, kDeltaPiece)));
      WEXLO_CHECK(diff.read(piece));
      WEXLO_CHECK(add_at(piece));
      WEXLO_CHECK(write_(piece));
      at_ += static_cast<std::int64_t>(piece.size());
      count -= static_cast<std::int64_t>(piece.size());
    }
    return {};
  }

  /// Adds the old bytes at the current place; what lies outside them counts as 0.
  Status add_at(MutableView piece) {
    const auto size = static_cast<std::int64_t>(old_.size);
    std::int64_t end = 0;
    if (__builtin_add_overflow(at_, static_cast<std::int64_t>(piece.size()), &end))
      return fail(bad_delta("it seeks out of range"));
    const std::int64_t from = std::clamp<std::int64_t>(at_, 0, size);
    const std::int64_t to = std::clamp<std::int64_t>(end, 0, size);
    if (from >= to) return {};
    const MutableView old = MutableView(old_piece_).first(static_cast<std::size_t>(to - from));
    WEXLO_CHECK(old_.read(static_cast<std::uint64_t>(from), old));
    std::byte* into = piece.data() + (from - at_);
    for (std::size_t i = 0; i < old.size(); ++i)
      into[i] = static_cast<std::byte>(std::to_integer<unsigned>(into[i]) +
                                       std::to_integer<unsigned>(old[i]));
    return {};
  }

  Status take(PackedStream& extra, std::int64_t count) {
    while (count > 0) {
      const MutableView piece = MutableView(piece_).first(
          static_cast<std::size_t>(std::min<std::int64_t>(count, kDeltaPiece)));
      WEXLO_CHECK(extra.read(piece));
      WEXLO_CHECK(write_(piece));
      count -= static_cast<std::int64_t>(piece.size());
    }
    return {};
  }

  const OldBytes& old_;
  const WriteBytes& write_;
  std::int64_t at_ = 0;
  Bytes piece_ = Bytes(kDeltaPiece), old_piece_ = Bytes(kDeltaPiece);
};

}  // namespace

OldBytes old_bytes(View bytes) {
  return {bytes.size(), [bytes](std::uint64_t offset, MutableView out) -> Status {
            WEXLO_TRY(const View part, slice(bytes, offset, out.size(), "old bytes"));
            std::ranges::copy(part, out.begin());
            return {};
          }};
}

WriteBytes write_behind(Bytes& out) {
  return [&out](View piece) -> Status {
    append(out, piece);
    return {};
  };
}

bool looks_like_bsdiff(View patch) {
  return as_text(patch).starts_with(kClassic) || as_text(patch).starts_with(kNewer);
}

Status apply_bsdiff(View patch, const OldBytes& old, std::uint64_t most, const WriteBytes& write) {
  if (!looks_like_bsdiff(patch))
    return fail({.code = ErrorCode::BadMagic,
                 .message = "not a patch that is known",
                 .expected = fmt::format("{} or {}", kClassic, kNewer),
                 .found = hex(patch.first(std::min<std::size_t>(8, patch.size())))});
  if (patch.size() < kDeltaHeader) return fail(bad_delta("its header is cut short"));
  std::array<Compression, 3> kinds;
  kinds.fill(Compression::Bzip2);
  if (as_text(patch).starts_with(kNewer))
    for (std::size_t i = 0; i < kinds.size(); ++i) {
      WEXLO_TRY(kinds[i], compressor(patch[kNewer.size() + i]));
    }
  const std::int64_t control = signed_at(patch, 8), diff = signed_at(patch, 16);
  const std::int64_t size = signed_at(patch, 24);
  const auto left = static_cast<std::int64_t>(patch.size() - kDeltaHeader);
  if (control < 0 || control > left || diff < 0 || diff > left - control || size < 0)
    return fail(bad_delta("its lengths lead out of it"));
  if (static_cast<std::uint64_t>(size) > most)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the patch gives more than its destination holds",
                 .expected = fmt::format("at most {} bytes", most),
                 .found = fmt::format("{} bytes", size)});
  const View body = patch.subspan(kDeltaHeader);
  const auto control_size = static_cast<std::size_t>(control);
  const auto diff_size = static_cast<std::size_t>(diff);
  PackedStream controls(body.first(control_size), kinds[0]);
  PackedStream diffs(body.subspan(control_size, diff_size), kinds[1]);
  PackedStream extras(body.subspan(control_size + diff_size), kinds[2]);
  return Patcher(old, write).run(controls, diffs, extras, size);
}

}  // namespace wexlo
