#include "firmware/payload.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <limits>

#include "base/digest.hpp"
#include "codec/codec.hpp"
#include "payload_manifest.pb.h"

namespace wexlo {
namespace {

constexpr std::string_view kMagic = "CrAU";
constexpr std::size_t kHeaderSize = 24;
constexpr std::uint64_t kVersion = 2;
constexpr std::uint64_t kMaxManifest = 256u << 20;
constexpr std::uint64_t kMaxPartition = std::uint64_t{64} << 30;
constexpr std::uint64_t kMaxBlockSize = 1u << 20;
constexpr std::size_t kInPiece = 128u << 10, kOutPiece = 512u << 10;
/// What an operation in flight holds: its pieces, and a decoder's dictionary of the usual size.
constexpr std::uint64_t kTaskCost = kInPiece + kOutPiece + (9u << 20);
constexpr std::uint64_t kHole = std::numeric_limits<std::uint64_t>::max();

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

std::string type_name(std::uint32_t type) {
  return type < kTypeNames.size() ? std::string(kTypeNames[type]) : fmt::format("type {}", type);
}

std::optional<Compression> compression_of(std::uint32_t type) {
  if (type == ReplaceBz) return Compression::Bzip2;
  if (type == ReplaceXz) return Compression::Xz;
  return std::nullopt;
}

bool is_full_kind(std::uint32_t type) {
  return type == Replace || type == Zero || type == Discard || compression_of(type);
}

struct Range {
  std::uint64_t offset, size;  ///< bytes
};

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

class Payload final : public Firmware {
 public:
  static Result<std::unique_ptr<Firmware>> open(SourcePtr source);
  const std::vector<PartitionFacts>& partitions() const override { return facts_; }
  Status read(const PartitionFacts& partition, ImageSink& sink,
              const Context& context) const override;

 private:
  Status read_manifest();
  Status add_partition(const manifest::PartitionUpdate& update);
  Result<std::vector<Range>> ranges_of(const manifest::Operation& operation,
                                       std::uint64_t image_size) const;
  Status check_coverage(const manifest::PartitionUpdate& update) const;
  Status run(const manifest::Operation& operation, std::uint64_t image_size, ImageSink& sink,
             const Context& context) const;
  Status copy_data(const manifest::Operation& operation, RangeWriter& writer, Hasher& hasher,
                   const Context& context) const;
  Error locate(Error error, const manifest::PartitionUpdate& update, int index) const;

  SourcePtr source_;
  manifest::Manifest manifest_;
  std::uint64_t data_at_ = 0;  ///< where the blobs begin
  std::vector<PartitionFacts> facts_;
};

Result<std::unique_ptr<Firmware>> Payload::open(SourcePtr source) {
  auto payload = std::make_unique<Payload>();
  payload->source_ = std::move(source);
  if (auto read = payload->read_manifest(); !read)
    return fail(in_file(std::move(read).error(), payload->source_->name()));
  return payload;
}

Status Payload::read_manifest() {
  WEXLO_TRY(const Bytes head, read_some(*source_, 0, kHeaderSize));
  if (!looks_like_payload(head))
    return fail({.code = ErrorCode::BadMagic,
                 .message = "not a payload",
                 .offset = 0,
                 .expected = std::string(kMagic),
                 .found = hex(View(head).first(std::min<std::size_t>(head.size(), 4)))});
  BeReader in(head);
  WEXLO_CHECK(in.take(4, "magic"));
  WEXLO_TRY(const auto version, in.get<std::uint64_t>("version"));
  if (version != kVersion)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a payload of another version",
                 .offset = 4,
                 .expected = fmt::format("{}", kVersion),
                 .found = fmt::format("{}", version)});
  WEXLO_TRY(const auto manifest_size, in.get<std::uint64_t>("manifest_size"));
  WEXLO_TRY(const auto signature_size, in.get<std::uint32_t>("metadata_signature_size"));
  const std::uint64_t left = source_->size() - kHeaderSize;
  if (manifest_size > std::min(left, kMaxManifest))
    return fail({.code = manifest_size > left ? ErrorCode::Truncated : ErrorCode::LimitExceeded,
                 .message = "manifest_size is too large",
                 .offset = 12,
                 .expected = fmt::format("at most {} bytes", std::min(left, kMaxManifest)),
                 .found = fmt::format("{} bytes", manifest_size),
                 .hint = "The file may be cut short: compare its size with the source's."});
  if (signature_size > left - manifest_size)
    return fail({.code = ErrorCode::Truncated,
                 .message = "metadata_signature_size runs past the end",
                 .offset = 20,
                 .expected = fmt::format("at most {} bytes", left - manifest_size),
                 .found = fmt::format("{} bytes", signature_size),
                 .hint = "The file may be cut short: compare its size with the source's."});
  WEXLO_TRY(const Bytes raw, read_some(*source_, kHeaderSize, manifest_size));
  if (!manifest_.ParseFromArray(raw.data(), static_cast<int>(raw.size())))
    return fail({.code = ErrorCode::Corrupt,
                 .message = "the manifest is damaged",
                 .offset = kHeaderSize,
                 .hint = "Fetch the package again; compare its digest with the source's."});
  const std::uint64_t block = manifest_.block_size();
  if (block < 512 || block > kMaxBlockSize || !std::has_single_bit(block))
    return fail({.code = ErrorCode::BadValue,
                 .message = "the manifest's block_size is out of range",
                 .offset = kHeaderSize,
                 .expected = fmt::format("a power of two from 512 to {}", kMaxBlockSize),
                 .found = fmt::format("{}", block)});
  data_at_ = kHeaderSize + manifest_size + signature_size;
  for (const auto& update : manifest_.partitions())
    WEXLO_CHECK(add_partition(update));
  incremental_ = std::ranges::any_of(manifest_.partitions(), [](const auto& update) {
    return std::ranges::any_of(update.operations(),
                               [](const auto& op) { return !is_full_kind(op.type()); });
  });
  build_.patch_level = manifest_.security_patch_level();
  layers_.push_back(
      {"payload", fmt::format("version {}, {}, {} partitions", version,
                              incremental_ ? "incremental" : "full", manifest_.partitions_size())});
  return {};
}

Status Payload::add_partition(const manifest::PartitionUpdate& update) {
  WEXLO_CHECK(check_partition_name(update.name()));
  if (find(update.name()) != nullptr)
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("partition {} stands in the manifest twice", update.name()),
                 .offset = kHeaderSize});
  if (update.new_info().size() > kMaxPartition)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = fmt::format("partition {} claims an impossible size", update.name()),
                 .offset = kHeaderSize,
                 .expected = fmt::format("at most {} bytes", kMaxPartition),
                 .found = fmt::format("{} bytes", update.new_info().size())});
  PartitionFacts facts{.name = update.name(),
                       .size = update.new_info().size(),
                       .operations = static_cast<std::size_t>(update.operations_size()),
                       .sha256 = hex(as_view(update.new_info().hash()))};
  // Lengths are held against the file when they are read; the sum is only shown.
  for (const auto& operation : update.operations())
    facts.stored_size += operation.data_length();
  facts_.push_back(std::move(facts));
  return {};
}

Result<std::vector<Range>> Payload::ranges_of(const manifest::Operation& operation,
                                              std::uint64_t image_size) const {
  const std::uint64_t block = manifest_.block_size();
  const std::uint64_t blocks = align_up(image_size, block) / block;
  std::vector<Range> ranges;
  for (const auto& extent : operation.dst_extents()) {
    const std::uint64_t start = extent.start_block(), count = extent.num_blocks();
    if (start == kHole || start > blocks || count > blocks - start)
      return fail({.code = ErrorCode::OutOfRange,
                   .message = "a destination lies outside the partition",
                   .expected = fmt::format("blocks below {}", blocks),
                   .found = fmt::format("{} blocks from {}", count, start)});
    ranges.push_back({start * block, count * block});
  }
  return ranges;
}

/// Every block exactly once: what makes it safe to run the operations in parallel, and keeps a
/// claimed size from being taken for content.
Status Payload::check_coverage(const manifest::PartitionUpdate& update) const {
  std::vector<Range> all;
  for (int i = 0; i < update.operations_size(); ++i) {
    auto ranges = ranges_of(update.operations(i), update.new_info().size());
    if (!ranges) return fail(locate(std::move(ranges).error(), update, i));
    all.insert(all.end(), ranges->begin(), ranges->end());
  }
  std::ranges::sort(all, {}, &Range::offset);
  std::uint64_t end = 0;
  for (const Range& range : all) {
    if (range.size == 0) continue;
    if (range.offset != end)
      return fail(
          {.code = ErrorCode::BadValue,
           .message = fmt::format("the operations of partition {} {} block {}", update.name(),
                                  range.offset < end ? "write twice to" : "leave out",
                                  std::min(range.offset, end) / manifest_.block_size()),
           .file = source_->name(),
           .offset = kHeaderSize,
           .hint = "Fetch the package again; compare its digest with the source's."});
    end += range.size;
  }
  if (end < update.new_info().size())
    return fail(
        {.code = ErrorCode::BadValue,
         .message = fmt::format("the operations of partition {} do not fill it", update.name()),
         .file = source_->name(),
         .offset = kHeaderSize,
         .expected = fmt::format("{} bytes", update.new_info().size()),
         .found = fmt::format("{} bytes", end)});
  return {};
}

Error Payload::locate(Error error, const manifest::PartitionUpdate& update, int index) const {
  const auto& operation = update.operations(index);
  error.message = fmt::format("operation {} ({}) of partition {}: {}", index,
                              type_name(operation.type()), update.name(), error.message);
  if (error.file.empty()) {
    error.file = source_->name();
    error.offset = data_at_ + operation.data_offset();
  }
  return error;
}

/// Streams the blob through the digest and, unless that failed already, the decoder.
Status Payload::copy_data(const manifest::Operation& operation, RangeWriter& writer, Hasher& hasher,
                          const Context& context) const {
  const auto kind = compression_of(operation.type());
  const auto decoder = kind ? make_decoder(*kind) : nullptr;
  SourceStream stream(*source_, data_at_ + operation.data_offset(), operation.data_length());
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

Status Payload::run(const manifest::Operation& operation, std::uint64_t image_size, ImageSink& sink,
                    const Context& context) const {
  const std::uint32_t type = operation.type();
  if (!is_full_kind(type))
    return fail({.code = ErrorCode::Unsupported,
                 .message = "needs the partition's older build",
                 .hint = "This is an incremental package: take the full package of the build."});
  if (type == Zero || type == Discard) return {};  // what is not written reads as zeros
  const std::uint64_t available = source_->size() - data_at_;
  if (operation.data_offset() > available ||
      operation.data_length() > available - operation.data_offset())
    return fail({.code = ErrorCode::Truncated,
                 .message = "its data lies outside the file",
                 .expected = fmt::format("{} bytes from {}", operation.data_length(),
                                         operation.data_offset()),
                 .found = fmt::format("{} bytes of data in all", available),
                 .hint = "The file may be cut short: compare its size with the source's."});
  WEXLO_TRY(auto ranges, ranges_of(operation, image_size));
  RangeWriter writer(sink, std::move(ranges), image_size);
  Hasher hasher(DigestKind::Sha256);
  const Status copied = copy_data(operation, writer, hasher, context);
  if (!copied && copied.error().code == ErrorCode::Interrupted) return copied;
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

Status Payload::read(const PartitionFacts& partition, ImageSink& sink,
                     const Context& context) const {
  const auto& update = manifest_.partitions(static_cast<int>(&partition - facts_.data()));
  if (update.has_hash_tree_extent() || update.has_fec_extent())
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("partition {} needs a hash tree that the phone generates",
                                        partition.name),
                 .file = source_->name(),
                 .hint = "Name the partitions that are needed: the boot chain has no such tree."});
  if (std::ranges::all_of(update.operations(),
                          [](const auto& op) { return is_full_kind(op.type()); }))
    WEXLO_CHECK(check_coverage(update));
  WEXLO_CHECK(sink.resize(partition.size));
  std::atomic<std::uint64_t> done = 0;
  TaskGroup tasks(context);
  for (int i = 0; i < update.operations_size(); ++i) {
    tasks.submit(kTaskCost, [&, i]() -> Status {
      const auto& operation = update.operations(i);
      if (auto ran = run(operation, partition.size, sink, context); !ran)
        return fail(locate(std::move(ran).error(), update, i));
      const std::uint64_t total = done += operation.data_length();
      if (context.progress) context.progress(total, partition.stored_size);
      return {};
    });
  }
  WEXLO_CHECK(tasks.wait());
  WEXLO_TRY(const Bytes found, digest_of(sink, partition.size, context));
  if (!partition.sha256.empty() && hex(found) != partition.sha256)
    return fail(
        {.code = ErrorCode::DigestMismatch,
         .message = fmt::format("partition {} does not have the promised SHA-256", partition.name),
         .file = source_->name(),
         .offset = kHeaderSize,
         .expected = partition.sha256,
         .found = hex(found),
         .hint = "The package is damaged: fetch it again."});
  return {};
}

}  // namespace

bool looks_like_payload(View start) {
  return as_text(start).starts_with(kMagic);
}

Result<std::unique_ptr<Firmware>> open_payload(SourcePtr source) {
  return Payload::open(std::move(source));
}

}  // namespace wexlo
