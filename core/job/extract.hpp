#pragma once
/// Partitions out of a firmware, verified, into files.

#include <filesystem>

#include "firmware/firmware.hpp"

namespace wexlo {

struct ExtractOptions {
  std::vector<std::string> partitions;  ///< empty: the boot chain
  bool all = false;
  Overwrite overwrite = Overwrite::Refuse;
};

struct ExtractedPartition {
  std::string name;
  std::filesystem::path file;
  std::uint64_t size = 0;
  std::string sha256;
  bool verified = false;  ///< the package promised a digest, and it is true
};

/// The partitions that take part in a start, as far as the firmware has them.
[[nodiscard]] std::vector<std::string> boot_chain(const Firmware& firmware);

/// Writes `folder/PARTITION.img` for each. Either all files appear or none.
/// Errors: NotFound (no such partition, naming those there are), Exists, those of Firmware::read.
[[nodiscard]] Result<std::vector<ExtractedPartition>> extract(const Firmware& firmware,
                                                              const std::string& firmware_name,
                                                              const ExtractOptions& options,
                                                              const std::filesystem::path& folder,
                                                              const Context& context);

}  // namespace wexlo
