#pragma once
/// What a kit is made from, opened once: the package, and what somebody gave along.

#include "firmware/stock_images.hpp"
#include "job/prepare_options.hpp"
#include "kit/facts/shape.hpp"
#include "kit/facts/target.hpp"

namespace wexlo {

struct PrepareInputs {
  std::filesystem::path path;
  FirmwarePtr firmware;
  std::unique_ptr<StockImages> stock;
  std::vector<Given> given;
  std::optional<Given> install;
  Purpose purpose = Purpose::Patch;
  std::vector<Finding> findings;
  bool reading = false;  ///< the boot chain's images are on their way

  /// All of them are needed if the kit comes about; what is decided first needs one.
  void begin_reading(const Context& context);
  /// File name of the package, without its folder.
  [[nodiscard]] std::string name() const { return path.filename().string(); }
  /// The phone itself installs something, to the slot that it does not start from.
  [[nodiscard]] bool lands_elsewhere(const PhoneShape& shape) const;
};

/// Errors: Unsupported (an incremental package), Usage (several packages to install), those of
/// opening and reading.
[[nodiscard]] Result<PrepareInputs> open_inputs(const std::filesystem::path& firmware,
                                                const PrepareOptions& options,
                                                const Context& context);

/// The partition whose ramdisk starts the system. Errors: NoTarget, those of reading.
[[nodiscard]] Result<Target> find_target(StockImages& stock, const std::vector<Recipe>& recipes,
                                         const Context& context);

}  // namespace wexlo
