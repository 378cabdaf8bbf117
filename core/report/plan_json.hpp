#pragma once
/// Plans, fits and findings as JSON, for report.json and the program's replies. For .cpp files
/// only: the library's header is heavy.

#include "kit/facts/fit.hpp"
#include "kit/folder/kit_draft.hpp"
#include "text/json.hpp"

namespace wexlo {

[[nodiscard]] Json fit_json(const std::vector<FitRow>& rows);
[[nodiscard]] Json steps_json(const std::vector<Step>& steps);
[[nodiscard]] Json findings_json(const std::vector<Finding>& findings);

/// report.json: what report.html tells, for programs.
[[nodiscard]] std::string report_json(const KitDraft& draft);

}  // namespace wexlo
