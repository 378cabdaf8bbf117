#pragma once
/// Are the files of a kit those that it was made with?

#include <filesystem>

#include "base/finding.hpp"
#include "base/pool.hpp"
#include "kit/facts/kit_file.hpp"

namespace wexlo {

/// Whether a kit is whole.
struct KitState {
  std::vector<Finding> findings;  ///< a problem for each file that is not as it should be
  std::size_t files = 0;          ///< that were looked at
  std::string page;               ///< digest of the entry that the report's record ends with
};

/// The files that are named, and those of the list of digests in the folder: there, with the size
/// and digest they should have, and none besides. Errors: Interrupted.
/// @param named  by the manifest; none: it does not read, and strangers are not told
[[nodiscard]] Result<KitState> check_files(const std::filesystem::path& folder,
                                           const std::vector<KitFile>& named,
                                           const Context& context);

}  // namespace wexlo
