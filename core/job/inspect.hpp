#pragma once
/// What a file or folder is, layer by layer, as plain data.

#include <filesystem>
#include <optional>

#include "firmware/formats.hpp"

namespace wexlo {

struct PartInfo {
  std::string name;
  std::uint64_t offset = 0, size = 0;  ///< bytes
  std::string compression;             ///< "none" where nothing is compressed
  std::string sha256;
  std::string detail;  ///< e.g. "24 entries, 3.1 MiB decoded"
};

struct DescriptorInfo {
  std::string kind, partition;
  std::vector<std::pair<std::string, std::string>> values;  ///< name and text, in order
};

struct VbmetaInfo {
  std::string algorithm, release, public_key_sha256;
  std::uint64_t rollback_index = 0, flags = 0;
  std::vector<std::string> flag_names;
  std::optional<bool> hash_matches;  ///< of the struct over itself
  std::vector<DescriptorInfo> descriptors;
};

struct FooterInfo {
  std::uint64_t original_image_size = 0, vbmeta_offset = 0, vbmeta_size = 0;
  std::optional<bool> digest_matches;
  VbmetaInfo vbmeta;
};

struct ImageInfo {
  std::string partition_kind;  ///< "init_boot", "boot", "vendor_boot", "vbmeta"
  std::uint64_t header_version = 0, page_size = 0;
  std::string os_version, patch_level, cmdline;
  std::vector<PartInfo> parts;
  /// "pristine": a digest of its own is true and nothing speaks against it; "journaled": patched by
  /// Wexlo; else "unknown".
  std::string origin, origin_reason;
  std::vector<std::string> journal;  ///< the edits it says it had
  std::optional<bool> id_matches;
  std::optional<VbmetaInfo> vbmeta;
  std::optional<FooterInfo> footer;
  std::uint64_t tail_size = 0;
};

struct Inspection {
  std::string path, kind;
  std::uint64_t size = 0;
  std::vector<Layer> layers;
  std::vector<PartitionFacts> partitions;
  BuildFacts build;
  bool incremental = false;
  std::optional<ImageInfo> image;
};

/// Errors: those of identify, the container and the image; a ramdisk that does not read is no
/// error here, its part says so.
[[nodiscard]] Result<Inspection> inspect(const std::filesystem::path& path);

}  // namespace wexlo
