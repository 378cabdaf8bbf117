#pragma once
/// Partitions out of a firmware, verified, into files.

#include <filesystem>

#include "firmware/firmware.hpp"

namespace wexlo {

struct ExtractOptions {
  std::vector<std::string> partitions;  ///< empty: the boot chain
  bool all = false;
  /// Leaves out sums over whole packages, and SHA-256 where nothing promises one.
  bool quick = false;
  /// SHA-256 of every image: without it those over 128 MiB have one only where the package promises
  /// it.
  bool digests = false;
  Overwrite overwrite = Overwrite::Refuse;
  std::vector<std::string> inputs;  ///< paths that are read: none of them is written to
};

struct ExtractedPartition {
  std::string name;
  std::filesystem::path file;
  std::uint64_t size = 0;
  std::string sha256;     ///< empty: not counted
  bool verified = false;  ///< the package promised something of all its bytes, and it is true
  std::string proof;      ///< what it was: "sha-256", "crc-32", "md5 of the package", …
  std::string from;       ///< the file inside the package
  std::string remark;     ///< what was noticed on the way, a sentence; may be empty
  std::string damage;     ///< why the image itself does not read, where nothing promised a digest
};

struct Extracted {
  std::vector<ExtractedPartition> partitions;
  std::vector<std::string> empty;  ///< of no bytes, passed over
};

/// The partitions that take part in a start, as far as the firmware has them.
[[nodiscard]] std::vector<std::string> boot_chain(const Firmware& firmware);

/// What would be taken out. Errors: NotFound (no such partition, naming those there are),
/// Ambiguous.
[[nodiscard]] Result<std::vector<const PartitionFacts*>> choose_partitions(
    const Firmware& firmware, const std::string& firmware_name, const ExtractOptions& options);

/// Writes `folder/PARTITION.img` for each, and extract.json. Either all files appear or none. A
/// folder that holds another package's images is refused, lest builds be mixed.
/// Errors: those of choosing and of Content::read, Exists, DigestMismatch (a sum over a package).
[[nodiscard]] Result<Extracted> extract(const Firmware& firmware, const std::string& firmware_name,
                                        const ExtractOptions& options,
                                        const std::filesystem::path& folder,
                                        const Context& context);

}  // namespace wexlo
