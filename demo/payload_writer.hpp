#pragma once
/// Writes a full payload (version 2) and the over-the-air zip around it.

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/pool.hpp"

namespace wexlo::demo {

/// A hash tree behind the data that an incremental package leaves to the phone.
struct GeneratedTree {
  std::size_t data_size = 0, tree_size = 0;
  Bytes salt;
};

struct PayloadPartition {
  std::string name;
  Bytes image;
  std::optional<GeneratedTree> tree{};
  bool logical = false;  ///< lies in super, in the one group there is
};

/// Operations of 2 MiB: ZERO where all is zero, else the smallest of xz, bzip2 and as it is.
[[nodiscard]] Result<Bytes> full_payload(const std::vector<PayloadPartition>& partitions,
                                         std::int64_t timestamp, const std::string& patch_level,
                                         const Context& context);

/// From one build to the next: pieces that are the same are copied, others patched (every second
/// one in each of the two forms of binary patches).
[[nodiscard]] Result<Bytes> incremental_payload(const std::vector<PayloadPartition>& older,
                                                const std::vector<PayloadPartition>& newer,
                                                std::int64_t timestamp,
                                                const std::string& patch_level,
                                                const Context& context);

struct ZipFile {
  std::string name;
  Bytes data;
};
/// A zip whose members are stored, with a fixed time: the same input gives the same bytes.
[[nodiscard]] Status write_zip(const std::filesystem::path& path,
                               const std::vector<ZipFile>& files);

}  // namespace wexlo::demo
