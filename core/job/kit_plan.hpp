#pragma once
/// What a plan is computed from, gathered from what was prepared.

#include "job/kit_write.hpp"

namespace wexlo {

/// The plan of what was prepared. @param files  names of the kit's files, as far as they are known
[[nodiscard]] Plan plan_of(const Prepared& prepared, const PrepareOptions& options,
                           const KitSources& sources, PlanFacts files);

}  // namespace wexlo
