#pragma once
/// Figures of whatever a path leads to.

#include "base/pool.hpp"
#include "figure/figures.hpp"

namespace wexlo {

struct DrawOptions {
  std::string figure;  ///< "bytes", "changes", "super", "chain", "payload"; empty: by what it is
};
/// @param path  an image, a package, a folder, a kit, or a sheet (its name ends with .toml)
/// Errors: Usage (the input has no such figure), those of reading.
[[nodiscard]] Result<figure::Scene> draw(const std::string& path, const std::string& other,
                                         const DrawOptions& options, const Context& context);

}  // namespace wexlo
