#pragma once
/// A kit rehearsed: by itself, beside its firmware, or while it is made.

#include "firmware/stock_images.hpp"
#include "flash/rehearsal.hpp"
#include "kit/folder/kit.hpp"
#include "kit/folder/kit_draft.hpp"

namespace wexlo {

struct RehearseOptions {
  std::optional<Sheet> sheet;
  std::vector<Fault> faults;
  /// Path of the stock firmware, for the images that the kit does not have; empty: those are taken
  /// for the phone's own.
  std::string firmware;
};

/// Errors: those of the kit, its plan and the firmware; Interrupted.
[[nodiscard]] Result<Rehearsal> rehearse_kit(const Kit& kit, const RehearseOptions& options,
                                             const Context& context);

/// A kit whose files are written already. @param folder  where they are
[[nodiscard]] Result<Rehearsal> rehearse_draft(const KitDraft& kit,
                                               const std::filesystem::path& folder,
                                               StockImages& stock, const Context& context);

/// What a rehearsal means for a kit that is made: problems stop it. What somebody has said yes to
/// already, by the finding that foretold it, is a warning.
/// @param accepted  codes
[[nodiscard]] std::vector<Finding> judge_rehearsal(const Rehearsal& rehearsal, const Plan& plan,
                                                   const std::set<std::string>& accepted);

}  // namespace wexlo
