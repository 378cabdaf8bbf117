#include "firmware/payload.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <limits>

#include "firmware/payload_operation.hpp"
#include "payload_manifest.pb.h"

namespace wexlo {
namespace {

constexpr std::string_view kMagic = "CrAU";
constexpr std::size_t kHeaderSize = 24;
constexpr std::uint64_t kVersion = 2;
constexpr std::uint64_t kMaxManifest = 64u << 20;  ///< real ones take up to a few MiB
constexpr int kMaxPartitions = 1024;
constexpr std::uint64_t kMaxPartition = std::uint64_t{32} << 30;
constexpr std::uint64_t kMaxBlockSize = 1u << 20;
constexpr std::uint64_t kHole = std::numeric_limits<std::uint64_t>::max();

class Payload final : public Firmware {
 public:
  static Result<std::unique_ptr<Firmware>> open(SourcePtr source);
  const std::vector<PartitionFacts>& partitions() const override { return facts_; }
  Result<std::string> read(const PartitionFacts& partition, ImageSink& sink,
                           const Context& context) const override;

 private:
  Result<Bytes> manifest_bytes();
  Status read_manifest();
  Status add_partition(const manifest::PartitionUpdate& update);
  Result<std::vector<Range>> ranges_of(const manifest::Operation& operation,
                                       std::uint64_t image_size) const;
  Status check_coverage(const manifest::PartitionUpdate& update) const;
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

/// Checks the header; gives the manifest's bytes and knows where the blobs begin.
Result<Bytes> Payload::manifest_bytes() {
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
  data_at_ = kHeaderSize + manifest_size + signature_size;
  return read_some(*source_, kHeaderSize, manifest_size);
}

Status Payload::read_manifest() {
  WEXLO_TRY(const Bytes raw, manifest_bytes());
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
  if (manifest_.partitions_size() > kMaxPartitions)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the manifest lists too many partitions",
                 .offset = kHeaderSize,
                 .expected = fmt::format("at most {}", kMaxPartitions),
                 .found = fmt::format("{}", manifest_.partitions_size())});
  for (const auto& update : manifest_.partitions())
    WEXLO_CHECK(add_partition(update));
  incremental_ = std::ranges::any_of(manifest_.partitions(), [](const auto& update) {
    return std::ranges::any_of(update.operations(),
                               [](const auto& op) { return !is_full_kind(op.type()); });
  });
  build_.patch_level = manifest_.security_patch_level();
  layers_.push_back(
      {"payload", fmt::format("version {}, {}, {} partitions", kVersion,
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
                              operation_name(operation.type()), update.name(), error.message);
  if (error.file.empty()) {
    error.file = source_->name();
    error.offset = data_at_ + operation.data_offset();
  }
  return error;
}

Result<std::string> Payload::read(const PartitionFacts& partition, ImageSink& sink,
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
    tasks.submit(kOperationCost, [&, i]() -> Status {
      const auto& operation = update.operations(i);
      auto ranges = ranges_of(operation, partition.size);
      auto ran = ranges ? run_operation({*source_, data_at_, partition.size}, operation,
                                        std::move(*ranges), sink, context)
                        : fail(std::move(ranges).error());
      if (!ran) return fail(locate(std::move(ran).error(), update, i));
      const std::uint64_t total = done += operation.data_length();
      if (context.progress) context.progress(total, partition.stored_size);
      return {};
    });
  }
  WEXLO_CHECK(tasks.wait());
  WEXLO_TRY(const Bytes digest, digest_of(sink, partition.size, context));
  std::string found = hex(digest);
  if (!partition.sha256.empty() && found != partition.sha256)
    return fail(
        {.code = ErrorCode::DigestMismatch,
         .message = fmt::format("partition {} does not have the promised SHA-256", partition.name),
         .file = source_->name(),
         .offset = kHeaderSize,
         .expected = partition.sha256,
         .found = found,
         .hint = "The package is damaged: fetch it again."});
  return found;
}

}  // namespace

bool looks_like_payload(View start) {
  return as_text(start).starts_with(kMagic);
}

Result<std::unique_ptr<Firmware>> open_payload(SourcePtr source) {
  return Payload::open(std::move(source));
}

}  // namespace wexlo
