#pragma once
/// The record of a kit that is filed with the phone: report.html, report.json, figures.

#include "kit/folder/kit_draft.hpp"

namespace wexlo {

/// Writes them into the folder. @param draft  with the digests of what was written
/// Errors: those of writing, and of reading the kit's images.
[[nodiscard]] Status write_report(KitFolder& folder, const KitDraft& draft,
                                  const Firmware& firmware, const Context& context);

}  // namespace wexlo
