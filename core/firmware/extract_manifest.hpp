#pragma once
/// extract.json: what was taken out, from which package; it lies beside the images.

#include <filesystem>
#include <map>

#include "firmware/firmware.hpp"

namespace wexlo {

inline constexpr std::string_view kExtractManifest = "extract.json";

struct ExtractedPartition {
  std::string name;
  std::filesystem::path file;
  std::uint64_t size = 0;
  std::string sha256;     ///< empty: not counted
  bool verified = false;  ///< the package promised something of all its bytes, and it matches
  std::string proof;      ///< what it was: "sha-256", "crc-32", "md5 of the package", …
  std::string from;       ///< the file inside the package
  std::string remark;     ///< what was noticed on the way, a sentence; may be empty
  std::string damage;     ///< why the image itself does not read, where nothing promised a digest
};

struct Extracted {
  std::vector<ExtractedPartition> partitions;
  std::vector<std::string> empty;  ///< of no bytes, passed over
};

struct ExtractedRow {
  std::string name, file, sha256;  ///< sha256 may be empty: it was not counted
  std::uint64_t size = 0;
};
struct ExtractManifest {
  std::string firmware, kind;
  std::map<std::string, std::string> build;  ///< as it stands there, numbers as text
  std::vector<ExtractedRow> partitions;
};
/// @param file  what errors call it. Errors: LimitExceeded, BadValue, Unsupported (another format
/// version).
[[nodiscard]] Result<ExtractManifest> parse_extract_manifest(std::string_view text,
                                                             const std::string& file);

/// extract.json after so many images were added. @param before  its text so far; may be empty
/// Errors: Exists (it speaks of another package), BadValue (it does not read).
[[nodiscard]] Result<std::string> extract_manifest(const Firmware& firmware,
                                                   const std::string& firmware_name,
                                                   const Extracted& extracted,
                                                   std::string_view before);

}  // namespace wexlo
