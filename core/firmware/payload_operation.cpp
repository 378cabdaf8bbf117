#include "firmware/payload_operation.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/digest.hpp"
#include "codec/unpacked.hpp"
#include "firmware/bsdiff.hpp"
#include "firmware/puffdiff.hpp"
#include "payload_manifest.pb.h"

namespace wexlo {
namespace {

constexpr std::size_t kInPiece = 128u << 10, kOutPiece = 512u << 10;
static_assert(kOperationCost > kInPiece + kOutPiece);
/// Old and new bytes of a deflate-aware patch are held, and spelled out once each.
constexpr std::uint64_t kPuffTimes = 4;
constexpr std::uint64_t kMaxPatch = 512u << 20;

enum OperationType : std::uint32_t {
  Replace = 0,
  ReplaceBz = 1,
  SourceCopy = 4,
  SourceBsdiff = 5,
  Zero = 6,
  Discard = 7,
  ReplaceXz = 8,
  Puffdiff = 9,
  BrotliBsdiff = 10
};

/// The format's names, for messages; the index is the type.
constexpr std::array<std::string_view, 14> kTypeNames{
    "REPLACE",       "REPLACE_BZ", "MOVE",           "BSDIFF",          "SOURCE_COPY",
    "SOURCE_BSDIFF", "ZERO",       "DISCARD",        "REPLACE_XZ",      "PUFFDIFF",
    "BROTLI_BSDIFF", "ZUCCHINI",   "LZ4DIFF_BSDIFF", "LZ4DIFF_PUFFDIFF"};

std::optional<Compression> compression_of(std::uint32_t type) {
  if (type == ReplaceBz) return Compression::Bzip2;
  if (type == ReplaceXz) return Compression::Xz;
  return std::nullopt;
}

/// Failures that damaged data can be the cause of; a full disk or a Ctrl-C is not among them.
bool blames_data(ErrorCode code) {
  return code == ErrorCode::Corrupt || code == ErrorCode::Truncated ||
         code == ErrorCode::OutOfRange || code == ErrorCode::LimitExceeded;
}

/// Spreads an operation's output over its destination ranges, in the order given.
class RangeWriter {
 public:
  RangeWriter(ImageSink& sink, std::vector<Range> ranges, std::uint64_t end)
      : sink_(sink), ranges_(std::move(ranges)), end_(end) {}

  /// Errors: OutOfRange, when more comes than the ranges hold.
  Status write(View bytes) {
    while (!bytes.empty()) {
      if (at_ == ranges_.size())
        return fail(
            {.code = ErrorCode::OutOfRange, .message = "the data is longer than its destination"});
      Range& range = ranges_[at_];
      const auto count =
          static_cast<std::size_t>(std::min<std::uint64_t>(bytes.size(), range.size));
      // The last block may reach beyond the partition's exact size: its rest is not stored.
      const bool nowhere = range.offset == kNowhere;
      const std::uint64_t inside = !nowhere && range.offset < end_ ? end_ - range.offset : 0;
      const auto stored = static_cast<std::size_t>(std::min<std::uint64_t>(count, inside));
      if (stored > 0) WEXLO_CHECK(sink_.write_at(range.offset, bytes.first(stored)));
      if (!nowhere) range.offset += count;
      range.size -= count;
      if (range.size == 0) ++at_;
      bytes = bytes.subspan(count);
    }
    return {};
  }

 private:
  ImageSink& sink_;
  std::vector<Range> ranges_;
  std::uint64_t end_;
  std::size_t at_ = 0;
};

std::uint64_t total_of(const std::vector<Range>& ranges) {
  std::uint64_t total = 0;
  for (const Range& range : ranges)
    total += range.size;
  return total;
}

/// Streams the blob through the digest and, unless that failed already, the decoder.
Status copy_data(const OperationPlace& place, const manifest::Operation& operation,
                 RangeWriter& writer, Hasher& hasher, const Context& context) {
  const auto kind = compression_of(operation.type());
  const auto decoder = kind ? make_decoder(*kind) : nullptr;
  SourceStream stream(place.source, place.data_at + operation.data_offset(),
                      operation.data_length());
  Bytes in(kInPiece), out(kind ? kOutPiece : 0);
  std::uint64_t left = operation.data_length();
  bool done = false;
  Status decoded;
  while (left > 0) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(const std::size_t got, stream.read(in));
    left -= got;
    View piece = View(in).first(got);
    hasher.update(piece);
    // After a decoding error the digest still has to see all bytes: it tells the likelier cause.
    if (!decoded) continue;
    if (!decoder) {
      decoded = writer.write(piece);
      continue;
    }
    while (decoded && !done) {  // until the decoder wants more input
      auto step = decoder->step(piece, out, left == 0);
      if (!step) {
        decoded = fail(std::move(step).error());
        break;
      }
      piece = piece.subspan(step->consumed);
      done = step->done;
      decoded = writer.write(View(out).first(step->produced));
      const bool stuck = step->consumed == 0 && step->produced == 0;
      if (stuck || (piece.empty() && step->produced < out.size())) break;
    }
  }
  if (decoded && decoder && !done)
    return fail({.code = ErrorCode::Truncated, .message = "the compressed data ends too early"});
  return decoded;
}

Error wrong_digest(std::string_view what, const std::string& expected, const std::string& found,
                   std::string hint) {
  return {.code = ErrorCode::DigestMismatch,
          .message = fmt::format("{} does not have the promised SHA-256", what),
          .expected = expected,
          .found = found,
          .hint = std::move(hint)};
}

/// The decoder's dictionary is looked up before it is made.
std::uint64_t decoder_cost(const OperationPlace& place, const manifest::Operation& operation) {
  const auto kind = compression_of(operation.type());
  if (!kind) return 0;
  const auto start = read_some(place.source, place.data_at + operation.data_offset(),
                               std::min<std::uint64_t>(64, operation.data_length()));
  return start ? decoder_memory(*kind, *start) : 0;
}

Status replace(const OperationPlace& place, const manifest::Operation& operation,
               RangeWriter& writer, const Context& context) {
  const MemoryGate::Pass pass(*place.gate, decoder_cost(place, operation));
  Hasher hasher(DigestKind::Sha256);
  const Status copied = copy_data(place, operation, writer, hasher, context);
  if (!copied && !blames_data(copied.error().code)) return copied;
  const std::string found = hex(hasher.finish());
  const std::string expected = hex(as_view(operation.data_sha256()));
  if (!expected.empty() && expected != found)
    return fail(
        wrong_digest("its data", expected, found, "The package is damaged: fetch it again."));
  return copied;
}

/// The older bytes that an operation starts from, in its order.
class OldData {
 public:
  static Result<OldData> open(const OperationPlace& place, const std::vector<Range>& ranges) {
    OldData out;
    std::vector<Piece> pieces;
    for (const Range& range : ranges) {
      if (range.offset == kNowhere) {
        pieces.push_back({nullptr, 0, range.size});
        continue;
      }
      // The old image's last block may be short of a block.
      const std::uint64_t end = align_up(place.old->size(), 4096);
      if (range.offset > end || range.size > end - range.offset)
        return fail({.code = ErrorCode::OutOfRange,
                     .message = "it reads behind the end of the older image",
                     .expected = fmt::format("at most {} bytes", place.old->size()),
                     .found = fmt::format("{} bytes from {}", range.size, range.offset),
                     .hint = "The base is of another build. " + place.base});
      const std::uint64_t inside =
          std::min(range.size, place.old->size() - std::min(range.offset, place.old->size()));
      pieces.push_back({place.old, range.offset, inside});
      pieces.push_back({nullptr, 0, range.size - inside});
    }
    WEXLO_TRY(out.source_, open_joined(std::move(pieces), place.old->name()));
    return out;
  }

  /// Before anything is written. @param expected  raw digest; empty: none is promised
  Status check(const std::string& expected, const OperationPlace& place, const Context& context) {
    if (expected.empty()) return {};
    Hasher hasher(DigestKind::Sha256);
    WEXLO_CHECK(each_piece(context, [&](View piece) {
      hasher.update(piece);
      return Status();
    }));
    const std::string found = hex(hasher.finish()), wanted = hex(as_view(expected));
    if (found == wanted) return {};
    return fail(wrong_digest("the older data", wanted, found,
                             "The base is of another build, or was changed. " + place.base));
  }

  template <class F>
  Status each_piece(const Context& context, F&& take) const {
    Bytes piece(kOutPiece);
    for (std::uint64_t at = 0; at < source_->size(); at += piece.size()) {
      WEXLO_CHECK(check_stop(context));
      const auto part = MutableView(piece).first(
          static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), source_->size() - at)));
      WEXLO_CHECK(source_->read_at(at, part));
      WEXLO_CHECK(take(View(part)));
    }
    return {};
  }
  const Source& source() const { return *source_; }

 private:
  SourcePtr source_;
};

Status patch(const OperationPlace& place, const manifest::Operation& operation, const OldData& old,
             std::uint64_t room, RangeWriter& writer) {
  if (operation.data_length() > kMaxPatch)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the patch is too large",
                 .expected = fmt::format("at most {} bytes", kMaxPatch),
                 .found = fmt::format("{} bytes", operation.data_length())});
  const bool whole = operation.type() == Puffdiff;
  const std::uint64_t old_size = old.source().size();
  const MemoryGate::Pass pass(*place.gate, operation.data_length() + (12u << 20) +
                                               (whole ? (old_size + room) * kPuffTimes : 0));
  WEXLO_TRY(const Bytes data, read_some(place.source, place.data_at + operation.data_offset(),
                                        operation.data_length()));
  const std::string found = hex(digest(DigestKind::Sha256, data));
  const std::string expected = hex(as_view(operation.data_sha256()));
  if (!expected.empty() && expected != found)
    return fail(
        wrong_digest("its data", expected, found, "The package is damaged: fetch it again."));
  const WriteBytes write = [&](View bytes) { return writer.write(bytes); };
  if (whole) {
    WEXLO_TRY(const Blob bytes, read_all(old.source(), kMaxPatch));
    return apply_puffdiff(data, bytes.view(), room, write);
  }
  return apply_bsdiff(
      data,
      {.size = old_size,
       .read = [&](std::uint64_t at, MutableView out) { return old.source().read_at(at, out); }},
      room, write);
}

Status from_old(const OperationPlace& place, const manifest::Operation& operation,
                const std::vector<Range>& sources, std::uint64_t room, RangeWriter& writer,
                const Context& context) {
  const std::uint32_t type = operation.type();
  WEXLO_CHECK(check_kind(type, place.old != nullptr));
  WEXLO_TRY(OldData old, OldData::open(place, sources));
  WEXLO_CHECK(old.check(operation.src_sha256(), place, context));
  if (type != SourceCopy) return patch(place, operation, old, room, writer);
  return old.each_piece(context, [&](View piece) { return writer.write(piece); });
}

}  // namespace

std::string operation_name(std::uint32_t type) {
  return type < kTypeNames.size() ? std::string(kTypeNames[type]) : fmt::format("type {}", type);
}

bool is_full_kind(std::uint32_t type) {
  return type == Replace || type == Zero || type == Discard || compression_of(type);
}

Status check_kind(std::uint32_t type, bool base) {
  if (is_full_kind(type)) return {};
  if (type != SourceCopy && type != SourceBsdiff && type != BrotliBsdiff && type != Puffdiff)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "is of a kind that cannot be done",
                 .expected = "SOURCE_COPY, SOURCE_BSDIFF, BROTLI_BSDIFF or PUFFDIFF",
                 .found = operation_name(type),
                 .hint = "Take the full package of the build."});
  if (base) return {};
  return fail({.code = ErrorCode::Unsupported,
               .message = "needs the partition's older build",
               .hint = "This is an incremental package: give the older build with --base, or take "
                       "the full package of the build."});
}

Status run_operation(const OperationPlace& place, const manifest::Operation& operation,
                     std::vector<Range> sources, std::vector<Range> destinations, ImageSink& sink,
                     const Context& context) {
  const std::uint32_t type = operation.type();
  if (type == Zero || type == Discard) return {};  // what is not written reads as zeros
  const std::uint64_t available = place.source.size() - place.data_at;
  if (operation.data_offset() > available ||
      operation.data_length() > available - operation.data_offset())
    return fail({.code = ErrorCode::Truncated,
                 .message = "its data lies outside the file",
                 .expected = fmt::format("{} bytes from {}", operation.data_length(),
                                         operation.data_offset()),
                 .found = fmt::format("{} bytes of data in all", available),
                 .hint = "The file may be cut short: compare its size with the source's."});
  const std::uint64_t room = total_of(destinations);
  RangeWriter writer(sink, std::move(destinations), place.image_size);
  if (is_full_kind(type)) return replace(place, operation, writer, context);
  return from_old(place, operation, sources, room, writer, context);
}

Result<Bytes> operation_head(const OperationPlace& place, const manifest::Operation& operation,
                             std::size_t count) {
  Bytes out(count);
  const std::uint32_t type = operation.type();
  if (type == Zero || type == Discard) return out;
  if (!is_full_kind(type)) return Bytes();
  constexpr std::size_t kStep = 8u << 10;
  const auto kind = compression_of(type);
  const std::uint64_t most = std::min(operation.data_length(), kHeadBudget);
  const std::uint64_t at = place.data_at + operation.data_offset();
  if (!kind) return read_some(place.source, at, std::min<std::uint64_t>(most, count));
  const auto decoder = make_decoder(*kind);
  std::size_t made = 0;
  for (std::uint64_t taken = 0; taken < most && made < count;) {
    WEXLO_TRY(const Bytes in,
              read_some(place.source, at + taken, std::min<std::uint64_t>(kStep, most - taken)));
    View left = in;
    while (!left.empty() && made < count) {
      WEXLO_TRY(const CodecStep step, decoder->step(left, MutableView(out).subspan(made), false));
      left = left.subspan(step.consumed);
      made += step.produced;
      if (step.done || (step.consumed == 0 && step.produced == 0)) break;
    }
    if (in.empty()) break;
    taken += in.size();
  }
  out.resize(made);
  return out;
}

MemoryGate::Pass::Pass(MemoryGate& gate, std::uint64_t bytes) : gate_(gate), bytes_(bytes) {
  std::unique_lock lock(gate_.mutex_);
  gate_.changed_.wait(lock,
                      [&] { return gate_.held_ == 0 || gate_.held_ + bytes_ <= gate_.bound_; });
  gate_.held_ += bytes_;
}

MemoryGate::Pass::~Pass() {
  const std::lock_guard lock(gate_.mutex_);
  gate_.held_ -= bytes_;
  gate_.changed_.notify_all();
}

}  // namespace wexlo
