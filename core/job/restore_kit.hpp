#pragma once
/// The stock images of a kit, verified and copied out of it.

#include <filesystem>

#include "base/output.hpp"
#include "base/pool.hpp"
#include "kit/facts/kit_file.hpp"

namespace wexlo {

struct StockCopy {
  std::string partition;
  KitFile file;                  ///< in the kit
  std::filesystem::path target;  ///< empty: only looked at
};

struct RestoredKit {
  std::string device, build;
  std::vector<StockCopy> files;  ///< a large image has several: its pieces
};

/// Each stock image of the kit has the digest that the kit says. With a folder they are copied
/// there, all or none: `PARTITION.img`, pieces under their own names.
/// @param target  empty: nothing is written
/// Errors: those of a kit's manifest; NoWayBack (it holds no stock images), DigestMismatch, those
/// of reading and writing.
[[nodiscard]] Result<RestoredKit> restore_kit(const std::filesystem::path& kit,
                                              const std::filesystem::path& target,
                                              Overwrite overwrite, const Context& context);

}  // namespace wexlo
