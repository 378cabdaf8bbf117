#pragma once
/// Writing a kit's folder from what was prepared.

#include "firmware/stock_images.hpp"
#include "job/prepare.hpp"

namespace wexlo {

struct KitSources {
  StockImages& stock;
  std::filesystem::path path;  ///< of the package
  const Context& context;

  [[nodiscard]] const Firmware& firmware() const { return stock.firmware(); }
  /// File name of the package, without its folder.
  [[nodiscard]] std::string name() const { return path.filename().string(); }
};

/// Writes everything below `folder`, which is not yet under its final name, and fills in what
/// `prepared` says of files and plan. Errors: those of reading and writing, Io (what was written
/// does not read back the same).
[[nodiscard]] Status write_kit(const std::filesystem::path& folder, Prepared& prepared,
                               const PrepareOptions& options, const std::vector<Recipe>& recipes,
                               const KitSources& sources);

}  // namespace wexlo
