#include "demo/payload_writer.hpp"

#include <zip.h>

#include "base/digest.hpp"
#include "codec/codec.hpp"
#include "payload_manifest.pb.h"

namespace wexlo::demo {
namespace {

constexpr std::size_t kBlock = 4096, kPiece = 2u << 20;
enum : std::uint32_t { Replace = 0, ReplaceBz = 1, Zero = 6, ReplaceXz = 8 };

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
