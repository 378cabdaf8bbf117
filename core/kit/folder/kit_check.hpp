#pragma once
/// Is a kit whole? Every file that its manifest names is there, with the size and digest it says.

#include <filesystem>

#include "base/pool.hpp"
#include "judge/finding.hpp"

namespace wexlo {

struct KitState {
  std::vector<Finding> findings;  ///< a problem for each file that is not as it should be
  std::size_t files = 0;          ///< that were looked at
  std::string needs;              ///< "unlocked" or "own-key": what the plan says of verification
};
/// A kit's folder, though its manifest may be gone.
[[nodiscard]] bool is_kit(const std::filesystem::path& folder);

/// Where the images that belong to a path are: of a kit, those to be flashed; else the path itself.
[[nodiscard]] std::string images_of(const std::string& path);

/// Errors: BadValue (its manifest does not read), Interrupted. Precondition: is_kit.
[[nodiscard]] Result<KitState> check_kit(const std::filesystem::path& folder,
                                         const Context& context);

}  // namespace wexlo
