#pragma once
/// A phone that does not start, looked at through its kit, or through a folder of images.

#include "diagnose/diagnose.hpp"
#include "kit/folder/kit.hpp"

namespace wexlo {

struct DiagnoseOptions {
  std::string path;      ///< a kit, an image, or a folder of images
  std::string firmware;  ///< the stock firmware; empty: the kit's stock twins
  std::optional<Sheet> sheet;
  std::optional<Symptom> symptom;
  std::optional<Observed> observed;
  std::filesystem::path log;  ///< of the flash; empty: the kit's own
};

struct DiagnosedPhone {
  Diagnosis diagnosis;
  bool kit = false;
  std::vector<std::string> looked_at;  ///< partitions whose images were looked at
  std::vector<std::string> stock;      ///< those whose stock images were given
  std::vector<Finding> findings;
};

/// Errors: those of the kit, the images and the firmware; Interrupted.
[[nodiscard]] Result<DiagnosedPhone> diagnose_phone(const DiagnoseOptions& options,
                                                    const Context& context);

/// What leads back, with the command that does it.
/// @param kit  the kit's folder; empty: there is none  @param firmware  empty: not given
[[nodiscard]] std::string way_back_text(Cause cause, const std::string& kit,
                                        const std::string& firmware);

}  // namespace wexlo
