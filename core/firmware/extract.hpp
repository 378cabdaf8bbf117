#pragma once
/// Partitions out of a firmware, verified, into files.

#include <filesystem>

#include "firmware/extract_manifest.hpp"

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
  /// The one partition goes to this file, and no extract.json is written; empty: into the folder.
  std::filesystem::path file{};
  std::vector<std::string> inputs;  ///< paths that are read: none of them is written to
};

/// The partitions that take part in a start, as far as the firmware has them.
[[nodiscard]] std::vector<std::string> boot_chain(const Firmware& firmware);

/// What would be taken out. Errors: NotFound (no such partition, naming those there are),
/// Ambiguous.
[[nodiscard]] Result<std::vector<const PartitionFacts*>> choose_partitions(
    const Firmware& firmware, const std::string& firmware_name, const ExtractOptions& options);

/// Writes `folder/PARTITION.img` for each, and extract.json. Either all files appear or none. A
/// folder that holds another package's images is refused, lest builds be mixed.
/// Errors: those of choosing and of Content::read, Usage (one file, and several partitions),
/// Exists, DigestMismatch (a sum over a package).
[[nodiscard]] Result<Extracted> extract(const Firmware& firmware, const std::string& firmware_name,
                                        const ExtractOptions& options,
                                        const std::filesystem::path& folder,
                                        const Context& context);

}  // namespace wexlo
