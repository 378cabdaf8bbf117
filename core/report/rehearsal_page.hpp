#pragma once
/// A rehearsal as a page of the report, and as JSON.

#include "flash/rehearsal.hpp"
#include "report/document.hpp"
#include "text/json.hpp"

namespace wexlo {

void add_rehearsal(report::Document& document, const Rehearsal& rehearsal);
/// `verdict`, `reason`, `cause`, `addon`, `steps`, `boot_log`, `not_here`, `back`.
[[nodiscard]] Json rehearsal_json(const Rehearsal& rehearsal);
/// Rows of steps: `id`, `outcome`, `detail`.
[[nodiscard]] Json played_json(const std::vector<PlayedStep>& steps);

}  // namespace wexlo
