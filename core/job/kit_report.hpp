#pragma once
/// The record of a kit that is filed with the phone: report.html, report.json, figures.

#include "job/kit_write.hpp"

namespace wexlo {

/// Writes them below `folder` and lists them in `prepared.files`.
[[nodiscard]] Status write_report(const std::filesystem::path& folder, Prepared& prepared,
                                  const PrepareOptions& options, const KitSources& sources,
                                  const Context& context);

}  // namespace wexlo
