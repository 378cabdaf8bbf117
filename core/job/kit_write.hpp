#pragma once
/// Writing a kit's folder from what was prepared.

#include "job/prepare.hpp"

namespace wexlo {

struct KitSources {
  const Firmware& firmware;
  std::string firmware_name;   ///< file name of the package, without its folder
  std::filesystem::path path;  ///< of the package
  /// A stock image of the firmware; empty: it has none of that name.
  std::function<Result<Blob>(const std::string& partition)> stock;
};

/// Writes everything below `folder`, which is not yet under its final name, and fills in what
/// `prepared` says of files and plan. Errors: those of reading and writing, Io (what was written
/// does not read back the same).
[[nodiscard]] Status write_kit(const std::filesystem::path& folder, Prepared& prepared,
                               const PrepareOptions& options, const std::vector<Recipe>& recipes,
                               const KitSources& sources, const Context& context);

/// The plan of what was prepared; names of files as far as they are known.
[[nodiscard]] Plan plan_of(const Prepared& prepared, const PrepareOptions& options,
                           const KitSources& sources, PlanFacts files);

}  // namespace wexlo
