#include "firmware/payload_operation.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/digest.hpp"
#include "codec/codec.hpp"
#include "payload_manifest.pb.h"

namespace wexlo {
namespace {

constexpr std::size_t kInPiece = 128u << 10, kOutPiece = 512u << 10;
static_assert(kOperationCost > kInPiece + kOutPiece);

enum OperationType : std::uint32_t {
  Replace = 0,
  ReplaceBz = 1,
  Zero = 6,
  Discard = 7,
  ReplaceXz = 8
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
      const std::uint64_t inside = range.offset < end_ ? end_ - range.offset : 0;
      const auto stored = static_cast<std::size_t>(std::min<std::uint64_t>(count, inside));
      if (stored > 0) WEXLO_CHECK(sink_.write_at(range.offset, bytes.first(stored)));
      range.offset += count;
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

}  // namespace

std::string operation_name(std::uint32_t type) {
  return type < kTypeNames.size() ? std::string(kTypeNames[type]) : fmt::format("type {}", type);
}

bool is_full_kind(std::uint32_t type) {
  return type == Replace || type == Zero || type == Discard || compression_of(type);
}

Status run_operation(const OperationPlace& place, const manifest::Operation& operation,
                     std::vector<Range> destinations, ImageSink& sink, const Context& context) {
  const std::uint32_t type = operation.type();
  if (!is_full_kind(type))
    return fail({.code = ErrorCode::Unsupported,
                 .message = "needs the partition's older build",
                 .hint = "This is an incremental package: take the full package of the build."});
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
  RangeWriter writer(sink, std::move(destinations), place.image_size);
  Hasher hasher(DigestKind::Sha256);
  const Status copied = copy_data(place, operation, writer, hasher, context);
  if (!copied && !blames_data(copied.error().code)) return copied;
  const std::string found = hex(hasher.finish());
  const std::string expected = hex(as_view(operation.data_sha256()));
  if (!expected.empty() && expected != found)
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "its data does not have the promised SHA-256",
                 .expected = expected,
                 .found = found,
                 .hint = "The package is damaged: fetch it again."});
  return copied;
}

}  // namespace wexlo
