#pragma once
/// The main job: firmware and recipes in, a kit ready for flashing out.

#include <filesystem>

#include "base/output.hpp"
#include "base/pool.hpp"
#include "kit/plan.hpp"
#include "kit/target.hpp"
#include "recipe/patch.hpp"

namespace wexlo {

inline constexpr std::string_view kKitManifest = "kit.json";

struct PrepareOptions {
  std::vector<Recipe> recipes;
  Slots slots = Slots::Current;
  bool wipe = false;
  Overwrite overwrite = Overwrite::Refuse;
};

struct PreparedImage {
  std::string partition;
  bool flashed = false;  ///< in the kit; false: looked at, nothing to change
  Patched patched;
  PlanImage files;  ///< names, sizes and digests inside the kit, when flashed
};

/// What a person should know; `warning` and `note` do not stop the job.
struct Finding {
  std::string level, code, message, where;
};

struct Prepared {
  Target target;
  BuildFacts build;
  std::vector<PreparedImage> images;
  Plan plan;
  std::vector<Finding> findings;
};

/// Errors: NoTarget, NoMatch, DoesNotFit, Exists, and those of reading the firmware and patching.
/// On failure nothing appears at `kit`.
[[nodiscard]] Result<Prepared> prepare(const std::filesystem::path& firmware,
                                       const PrepareOptions& options,
                                       const std::filesystem::path& kit, const Context& context);

}  // namespace wexlo
