#include "firmware/payload.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/payload_content.hpp"
#include "payload_manifest.pb.h"
#include "verified/signature.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kPayloadMagic = "CrAU";
constexpr std::size_t kPayloadHeader = 24, kHeaderSizeV1 = 20;
constexpr std::uint64_t kMaxManifest = 64u << 20;  ///< real ones take up to a few MiB
constexpr int kMaxPayloadPartitions = 1024;
// What is read of one is bounded where it is read; no storage of a phone is as large as this.
constexpr std::uint64_t kMaxPayloadImage = std::uint64_t{1} << 40;
constexpr std::uint64_t kMaxBlockSize = 1u << 20;

class PayloadReader {
 public:
  PayloadReader(const SourcePtr& source, const Opening& opening)
      : source_(source), opening_(opening) {}

  Result<FirmwarePtr> read() {
    auto done = read_all_of_it();
    if (!done) return fail(in_file(std::move(done).error(), source_->name()));
    return std::move(out_);
  }

 private:
  Status read_all_of_it() {
    WEXLO_CHECK(read_header());
    WEXLO_TRY(const Bytes raw, read_some(*source_, header_size_, manifest_size_));
    if (!opening_.key.empty()) WEXLO_CHECK(check_signature(raw));
    WEXLO_CHECK(read_manifest(raw));
    auto data = std::make_shared<PayloadData>();
    data->source = source_;
    data->manifest = manifest_;
    data->data_at = header_size_ + manifest_size_ + signature_size_;
    data->base = opening_.base;
    data->base_build = opening_.base_build;
    for (const auto& update : manifest_->partitions())
      WEXLO_CHECK(add_partition(update, data));
    tell();
    return {};
  }

  Status read_header() {
    WEXLO_TRY(const Bytes head, read_some(*source_, 0, kPayloadHeader));
    if (!looks_like_payload(head))
      return fail({.code = ErrorCode::BadMagic,
                   .message = "not a payload",
                   .offset = 0,
                   .expected = std::string(kPayloadMagic),
                   .found = hex(View(head).first(std::min<std::size_t>(head.size(), 4)))});
    BeReader in(head);
    WEXLO_CHECK(in.take(4, "magic"));
    WEXLO_TRY(version_, in.get<std::uint64_t>("version"));
    if (version_ != 1 && version_ != 2)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a payload of another version",
                   .offset = 4,
                   .expected = "1 or 2",
                   .found = fmt::format("{}", version_)});
    header_size_ = version_ == 1 ? kHeaderSizeV1 : kPayloadHeader;
    WEXLO_TRY(manifest_size_, in.get<std::uint64_t>("manifest_size"));
    if (version_ == 2) {
      WEXLO_TRY(signature_size_, in.get<std::uint32_t>("metadata_signature_size"));
    }
    const std::uint64_t left = source_->size() - std::min(source_->size(), header_size_);
    if (manifest_size_ > std::min(left, kMaxManifest))
      return fail({.code = manifest_size_ > left ? ErrorCode::Truncated : ErrorCode::LimitExceeded,
                   .message = "manifest_size is too large",
                   .offset = 12,
                   .expected = fmt::format("at most {} bytes", std::min(left, kMaxManifest)),
                   .found = fmt::format("{} bytes", manifest_size_),
                   .hint = "The file may be cut short: compare its size with the source's."});
    if (signature_size_ > left - manifest_size_)
      return fail({.code = ErrorCode::Truncated,
                   .message = "metadata_signature_size runs past the end",
                   .offset = 20,
                   .expected = fmt::format("at most {} bytes", left - manifest_size_),
                   .found = fmt::format("{} bytes", signature_size_),
                   .hint = "The file may be cut short: compare its size with the source's."});
    return {};
  }

  /// The metadata's signature covers header and manifest. A package may carry several.
  Status check_signature(View raw) {
    Error wrong{.code = ErrorCode::BadSignature,
                .message = "the metadata is not signed with the given key",
                .offset = header_size_ + manifest_size_,
                .hint =
                    "The package is not from whom the key says, or was changed. Without --key "
                    "the signature is not looked at."};
    if (signature_size_ == 0) {
      wrong.message = "the metadata is not signed at all";
      return fail(std::move(wrong));
    }
    WEXLO_TRY(const Bytes bytes,
              read_some(*source_, header_size_ + manifest_size_, signature_size_));
    manifest::Signatures signatures;
    if (!signatures.ParseFromArray(bytes.data(), static_cast<int>(bytes.size()))) {
      wrong.message = "the metadata's signature does not read";
      return fail(std::move(wrong));
    }
    WEXLO_TRY(const Bytes head, read_some(*source_, 0, header_size_));
    Hasher hasher(DigestKind::Sha256);
    hasher.update(head);
    hasher.update(raw);
    const Bytes digest = hasher.finish();
    for (const auto& one : signatures.signatures()) {
      View signature = as_view(one.data());
      if (one.has_unpadded_size() && one.unpadded_size() < signature.size())
        signature = signature.first(one.unpadded_size());
      WEXLO_TRY(const bool is_true,
                verified::signature_is_true(digest, DigestKind::Sha256, signature, opening_.key));
      if (!is_true) continue;
      signed_ = true;
      return {};
    }
    return fail(std::move(wrong));
  }

  Status read_manifest(View raw) {
    if (!manifest_->ParseFromArray(raw.data(), static_cast<int>(raw.size())))
      return fail({.code = ErrorCode::Corrupt,
                   .message = "the manifest is damaged",
                   .offset = header_size_,
                   .hint = "Fetch the package again; compare its digest with the source's."});
    const std::uint64_t block = manifest_->block_size();
    if (block < 512 || block > kMaxBlockSize || !std::has_single_bit(block))
      return fail({.code = ErrorCode::BadValue,
                   .message = "the manifest's block_size is out of range",
                   .offset = header_size_,
                   .expected = fmt::format("a power of two from 512 to {}", kMaxBlockSize),
                   .found = fmt::format("{}", block)});
    if (manifest_->partitions_size() > kMaxPayloadPartitions)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "the manifest lists too many partitions",
                   .offset = header_size_,
                   .expected = fmt::format("at most {}", kMaxPayloadPartitions),
                   .found = fmt::format("{}", manifest_->partitions_size())});
    if (manifest_->partitions_size() == 0) name_the_two();
    return {};
  }

  /// The oldest payloads have just two partitions, and no names for them.
  void name_the_two() {
    const auto add = [&](const char* name, auto* operations, auto* old_info, auto* new_info) {
      if (operations->empty()) return;
      auto* update = manifest_->add_partitions();
      update->set_name(name);
      update->mutable_operations()->Swap(operations);
      update->mutable_old_info()->Swap(old_info);
      update->mutable_new_info()->Swap(new_info);
    };
    add("boot", manifest_->mutable_boot_operations(), manifest_->mutable_old_boot_info(),
        manifest_->mutable_new_boot_info());
    add("system", manifest_->mutable_system_operations(), manifest_->mutable_old_system_info(),
        manifest_->mutable_new_system_info());
  }

  Status add_partition(const manifest::PartitionUpdate& update,
                       const std::shared_ptr<const PayloadData>& data) {
    WEXLO_CHECK(check_partition_name(update.name()));
    if (out_->find(update.name()) != nullptr)
      return fail(
          {.code = ErrorCode::BadValue,
           .message = fmt::format("partition {} stands in the manifest twice", update.name()),
           .offset = header_size_});
    if (update.new_info().size() > kMaxPayloadImage)
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = fmt::format("partition {} claims an impossible size", update.name()),
                   .offset = header_size_,
                   .expected = fmt::format("at most {} bytes", kMaxPayloadImage),
                   .found = fmt::format("{} bytes", update.new_info().size())});
    const std::uint64_t block = manifest_->block_size();
    PartitionFacts facts{.name = update.name(),
                         .size = update.new_info().size(),
                         .operations = static_cast<std::size_t>(update.operations_size()),
                         .sha256 = hex(as_view(update.new_info().hash())),
                         .content = payload_content(data, update)};
    // Lengths are held against the file when they are read; the sum is only shown.
    for (const auto& operation : update.operations()) {
      facts.stored_size += operation.data_length();
      std::uint64_t& bytes = facts.written_by[operation_name(operation.type())];
      for (const auto& extent : operation.dst_extents())
        bytes += std::min(extent.num_blocks(), kMaxPayloadImage / block) * block;
      facts.incremental |= !is_full_kind(operation.type());
    }
    if (update.has_hash_tree_extent() && update.hash_tree_extent().num_blocks() > 0)
      facts.detail = "hash tree generated";
    out_->incremental |= facts.incremental;
    out_->partitions.push_back(std::move(facts));
    return {};
  }

  void tell() {
    out_->kind = "payload";
    out_->signs.bootloader = "packages with a payload are for phones with such a bootloader";
    out_->build.patch_level = manifest_->security_patch_level();
    if (manifest_->max_timestamp() > 0)
      out_->build.timestamp = static_cast<std::uint64_t>(manifest_->max_timestamp());
    std::string detail =
        fmt::format("version {}, {}, {} partitions", version_,
                    out_->incremental ? "incremental" : "full", manifest_->partitions_size());
    if (manifest_->minor_version() != 0)
      detail += fmt::format(", minor version {}", manifest_->minor_version());
    if (manifest_->partial_update()) detail += ", partial";
    if (signed_) detail += ", metadata signed with the given key";
    out_->layers.push_back({"payload", std::move(detail)});
    for (const auto& group : manifest_->dynamic_partition_metadata().groups())
      out_->groups.push_back({group.name(),
                              group.size(),
                              {group.partition_names().begin(), group.partition_names().end()}});
    if (manifest_->partial_update())
      out_->note(FindingCode::PartialUpdate,
                 "The package brings some partitions only; the others stay as "
                 "they are on the phone.");
  }

  const SourcePtr& source_;
  const Opening& opening_;
  FirmwarePtr out_ = std::make_unique<Firmware>();
  std::shared_ptr<manifest::Manifest> manifest_ = std::make_shared<manifest::Manifest>();
  std::uint64_t version_ = 0, header_size_ = kPayloadHeader, manifest_size_ = 0,
                signature_size_ = 0;
  bool signed_ = false;
};

}  // namespace

bool looks_like_payload(View start) {
  return as_text(start).starts_with(kPayloadMagic);
}

Result<FirmwarePtr> open_payload(const SourcePtr& source, const Opening& opening) {
  return PayloadReader(source, opening).read();
}

}  // namespace wexlo
