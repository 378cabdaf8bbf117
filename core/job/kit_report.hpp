#pragma once
/// The record of a kit that is filed with the phone: report.html, report.json, figures.

#include "job/kit_write.hpp"
#include "kit/folder/kit_folder.hpp"

namespace wexlo {

/// Writes them into the folder and lists them in `prepared.files`.
[[nodiscard]] Status write_report(KitFolder& folder, Prepared& prepared,
                                  const PrepareOptions& options, const KitSources& sources);

}  // namespace wexlo
