#pragma once
/// The record of a kit that is filed with the phone: report.html, report.json, figures.

#include "flash/rehearsal.hpp"
#include "kit/folder/kit_draft.hpp"

namespace wexlo {

/// Writes them into the folder. @param draft  with the digests of what was written
/// @param rehearsal  nullptr: there was none
/// Errors: those of writing, and of reading the kit's images.
[[nodiscard]] Status write_report(KitFolder& folder, const KitDraft& draft,
                                  const Firmware& firmware, const Rehearsal* rehearsal,
                                  const Context& context);

}  // namespace wexlo
