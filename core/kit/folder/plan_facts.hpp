#pragma once
/// From a draft to what its plan is made of.

#include "kit/folder/kit_draft.hpp"

namespace wexlo {

/// Pure but for the names of the files beside a download-mode package.
/// @param path  of the package
[[nodiscard]] PlanFacts plan_facts(const KitDraft& draft, const Firmware& firmware,
                                   const std::filesystem::path& path);

}  // namespace wexlo
