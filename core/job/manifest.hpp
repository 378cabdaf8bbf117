#pragma once
/// kit.json: digests and provenance of all that is in a kit. No times, no paths of this machine:
/// the same input gives the same bytes.

#include <string>

#include "job/prepare.hpp"

namespace wexlo {

/// @param firmware_name  file name of the package, without its folder
[[nodiscard]] std::string kit_manifest(const Prepared& prepared, const PrepareOptions& options,
                                       const std::string& firmware_name,
                                       const std::string& plan_sha256);

/// report.json: what report.html tells, for programs.
[[nodiscard]] std::string kit_report_json(const Prepared& prepared, const PrepareOptions& options,
                                          const std::string& firmware_name);

/// The rows of a fit, for programs. JSON.
[[nodiscard]] std::string fit_json_text(const std::vector<FitRow>& rows);

}  // namespace wexlo
