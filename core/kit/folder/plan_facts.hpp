#pragma once
/// From a draft to what its plan is made of.

#include "kit/folder/kit_draft.hpp"

namespace wexlo {

[[nodiscard]] PlanFacts plan_facts(const KitDraft& draft, const Firmware& firmware);

}  // namespace wexlo
