#include "demo/payload_writer.hpp"

#include <zip.h>

#include "base/digest.hpp"
#include "codec/codec.hpp"
#include "demo/content.hpp"
#include "payload_manifest.pb.h"

namespace wexlo::demo {
namespace {

/// Of super without its tables.
constexpr std::uint64_t kGroupSize = 34u << 20;
constexpr std::size_t kPiece = 2u << 20;
enum : std::uint32_t {
  Replace = 0,
  ReplaceBz = 1,
  SourceCopy = 4,
  SourceBsdiff = 5,
  Zero = 6,
  ReplaceXz = 8,
  BrotliBsdiff = 10
};

struct Piece {
  std::size_t partition, offset, size;
  std::uint32_t type = Zero;
  Bytes data;
};

std::string text(View bytes) {
  return std::string(as_text(bytes));
}

/// Fast settings: the demo wants to be made in seconds, not to be small.
Status encode_piece(Piece& piece, View raw) {
  if (all_bytes(raw, std::byte{0})) return {};
  piece.type = Replace;
  piece.data = to_bytes(raw);
  // Every eighth piece tries bzip2, so that the demo has all kinds.
  const bool bzip = piece.offset / kPiece % 8 == 5;
  WEXLO_TRY(Bytes encoded,
            encode(bzip ? Compression::Bzip2 : Compression::Xz, raw, {.level = bzip ? 1 : 0}));
  if (encoded.size() < piece.data.size()) {
    piece.type = bzip ? ReplaceBz : ReplaceXz;
    piece.data = std::move(encoded);
  }
  return {};
}

Result<std::vector<Piece>> encode_all(const std::vector<PayloadPartition>& partitions,
                                      const Context& context) {
  std::vector<Piece> pieces;
  for (std::size_t p = 0; p < partitions.size(); ++p)
    for (std::size_t at = 0; at < partitions[p].image.size(); at += kPiece)
      pieces.push_back({p, at, std::min(kPiece, partitions[p].image.size() - at)});
  TaskGroup tasks(context);
  for (Piece& piece : pieces)
    tasks.submit(16u << 20, [&] {
      return encode_piece(
          piece, View(partitions[piece.partition].image).subspan(piece.offset, piece.size));
    });
  WEXLO_CHECK(tasks.wait());
  return pieces;
}

/// The payload of a manifest and its blobs.
Bytes finish(const manifest::Manifest& manifest, const Bytes& blobs) {
  const std::string raw = manifest.SerializeAsString();
  Bytes out;
  BeWriter writer(out);
  writer.text("CrAU", 4);
  writer.put(std::uint64_t{2});
  writer.put(std::uint64_t{raw.size()});
  writer.put(std::uint32_t{0});
  writer.put(as_view(raw));
  writer.put(View(blobs));
  return out;
}

void set_extent(manifest::Extent* extent, std::size_t offset, std::size_t size) {
  extent->set_start_block(offset / kBlock);
  extent->set_num_blocks(align_up(size, kBlock) / kBlock);
}

void describe(manifest::PartitionUpdate& update, const PayloadPartition& partition) {
  update.set_name(partition.name);
  update.mutable_new_info()->set_size(partition.image.size());
  update.mutable_new_info()->set_hash(text(digest(DigestKind::Sha256, partition.image)));
  if (!partition.tree) return;
  const GeneratedTree& tree = *partition.tree;
  set_extent(update.mutable_hash_tree_data_extent(), 0, tree.data_size);
  set_extent(update.mutable_hash_tree_extent(), tree.data_size, tree.tree_size);
  update.set_hash_tree_algorithm("sha256");
  update.set_hash_tree_salt(text(tree.salt));
}

/// One control triple: all of the old bytes are added to, nothing is extra.
Result<Bytes> binary_patch(View before, View after, bool newer_form) {
  Bytes control, diff(after.size());
  LeWriter triple(control);
  for (const std::uint64_t value :
       {std::uint64_t{after.size()}, std::uint64_t{0}, std::uint64_t{0}})
    triple.put(value);
  for (std::size_t i = 0; i < after.size(); ++i)
    diff[i] = static_cast<std::byte>(std::to_integer<unsigned>(after[i]) -
                                     std::to_integer<unsigned>(before[i]));
  const Framing fast{.level = 1};
  WEXLO_TRY(const Bytes packed_diff, encode(Compression::Bzip2, diff, fast));
  WEXLO_TRY(const Bytes packed_control, encode(Compression::Bzip2, control, fast));
  const Bytes& first = newer_form ? control : packed_control;
  Bytes out;
  LeWriter writer(out);
  if (newer_form) {
    writer.text("BSDF2", 5);
    for (const unsigned compressor : {0u, 1u, 0u})  // none, bzip2, none
      out.push_back(static_cast<std::byte>(compressor));
  } else {
    writer.text("BSDIFF40", 8);
  }
  writer.put(std::uint64_t{first.size()});
  writer.put(std::uint64_t{packed_diff.size()});
  writer.put(std::uint64_t{after.size()});
  writer.put(View(first));
  writer.put(View(packed_diff));
  if (!newer_form) {
    WEXLO_TRY(const Bytes nothing, encode(Compression::Bzip2, {}, fast));
    writer.put(View(nothing));
  }
  return out;
}

Status patch_piece(manifest::Operation& operation, View before, View after, std::size_t at,
                   Bytes& blobs) {
  set_extent(operation.add_dst_extents(), at, after.size());
  if (all_bytes(after, std::byte{0})) {
    operation.set_type(Zero);
    return {};
  }
  set_extent(operation.add_src_extents(), at, before.size());
  operation.set_src_sha256(text(digest(DigestKind::Sha256, before)));
  if (equal(before, after)) {
    operation.set_type(SourceCopy);
    return {};
  }
  const bool newer_form = at / kPiece % 2 == 1;
  operation.set_type(newer_form ? BrotliBsdiff : SourceBsdiff);
  WEXLO_TRY(const Bytes patch, binary_patch(before, after, newer_form));
  operation.set_data_offset(blobs.size());
  operation.set_data_length(patch.size());
  operation.set_data_sha256(text(digest(DigestKind::Sha256, patch)));
  append(blobs, View(patch));
  return {};
}

/// The group that the phone's logical partitions share.
void add_group(const std::vector<PayloadPartition>& partitions, manifest::Manifest& manifest) {
  for (const PayloadPartition& partition : partitions) {
    if (!partition.logical) continue;
    auto* dynamic = manifest.mutable_dynamic_partition_metadata();
    auto* group = dynamic->groups_size() > 0 ? dynamic->mutable_groups(0) : dynamic->add_groups();
    group->set_name("korvale_dynamic");
    group->set_size(kGroupSize);
    group->add_partition_names(partition.name);
  }
}

}  // namespace

Result<Bytes> full_payload(const std::vector<PayloadPartition>& partitions, std::int64_t timestamp,
                           const std::string& patch_level, const Context& context) {
  WEXLO_TRY(const auto pieces, encode_all(partitions, context));
  manifest::Manifest manifest;
  manifest.set_block_size(kBlock);
  manifest.set_minor_version(0);
  manifest.set_max_timestamp(timestamp);
  manifest.set_security_patch_level(patch_level);
  for (const PayloadPartition& partition : partitions) {
    auto* update = manifest.add_partitions();
    update->set_name(partition.name);
    update->mutable_new_info()->set_size(partition.image.size());
    update->mutable_new_info()->set_hash(text(digest(DigestKind::Sha256, partition.image)));
  }
  add_group(partitions, manifest);
  Bytes blobs;
  for (const Piece& piece : pieces) {
    auto* operation =
        manifest.mutable_partitions(static_cast<int>(piece.partition))->add_operations();
    operation->set_type(piece.type);
    auto* extent = operation->add_dst_extents();
    extent->set_start_block(piece.offset / kBlock);
    extent->set_num_blocks(align_up(piece.size, kBlock) / kBlock);
    if (piece.type == Zero) continue;
    operation->set_data_offset(blobs.size());
    operation->set_data_length(piece.data.size());
    operation->set_data_sha256(text(digest(DigestKind::Sha256, piece.data)));
    append(blobs, View(piece.data));
  }
  return finish(manifest, blobs);
}

Result<Bytes> incremental_payload(const std::vector<PayloadPartition>& older,
                                  const std::vector<PayloadPartition>& newer,
                                  std::int64_t timestamp, const std::string& patch_level,
                                  const Context& context) {
  manifest::Manifest manifest;
  manifest.set_block_size(kBlock);
  manifest.set_minor_version(6);  // trees are generated
  manifest.set_max_timestamp(timestamp);
  manifest.set_security_patch_level(patch_level);
  Bytes blobs;
  for (std::size_t i = 0; i < newer.size(); ++i) {
    const Bytes &before = older[i].image, &after = newer[i].image;
    auto* update = manifest.add_partitions();
    describe(*update, newer[i]);
    update->mutable_old_info()->set_size(before.size());
    update->mutable_old_info()->set_hash(text(digest(DigestKind::Sha256, before)));
    for (std::size_t at = 0; at < after.size();) {
      WEXLO_CHECK(check_stop(context));
      std::size_t end = std::min(at + kPiece, after.size());
      if (newer[i].tree) {
        const std::size_t tree = newer[i].tree->data_size;
        if (at == tree) {
          at += newer[i].tree->tree_size;
          continue;
        }
        if (at < tree) end = std::min(end, tree);
      }
      auto* operation = update->add_operations();
      WEXLO_CHECK(patch_piece(*operation, View(before).subspan(at, end - at),
                              View(after).subspan(at, end - at), at, blobs));
      at = end;
    }
  }
  return finish(manifest, blobs);
}

Status write_zip(const std::filesystem::path& path, const std::vector<ZipFile>& files) {
  constexpr zip_uint16_t kNoon = 12 << 11, kDate = (2026 - 1980) << 9 | 9 << 5 | 5;
  int code = 0;
  zip_t* zip = zip_open(path.c_str(), ZIP_CREATE | ZIP_EXCL, &code);
  if (zip == nullptr) return fail(io_error(errno, "cannot write", path.string()));
  for (const ZipFile& file : files) {
    zip_source_t* source = zip_source_buffer(zip, file.data.data(), file.data.size(), 0);
    const auto index = zip_file_add(zip, file.name.c_str(), source, ZIP_FL_ENC_UTF_8);
    const auto at = static_cast<zip_uint64_t>(index);
    if (index < 0 || zip_set_file_compression(zip, at, ZIP_CM_STORE, 0) != 0 ||
        zip_file_set_dostime(zip, at, kNoon, kDate, 0) != 0) {
      zip_discard(zip);
      return fail(
          {.code = ErrorCode::Io, .message = "cannot write the zip", .file = path.string()});
    }
  }
  if (zip_close(zip) == 0) return {};
  Error error{.code = ErrorCode::Io, .message = zip_strerror(zip), .file = path.string()};
  zip_discard(zip);
  return fail(std::move(error));
}

}  // namespace wexlo::demo
