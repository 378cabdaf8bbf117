#pragma once
/// The tars that download-mode phones take, with the member names of their own packages.

#include "job/kit_write.hpp"
#include "kit/folder/kit_folder.hpp"

namespace wexlo {

/// Writes package/…: the kit's images, their stock twins and, where a package is to be installed,
/// what that needs. Fills in `facts` and the kit's list of files.
[[nodiscard]] Status write_packages(KitFolder& folder, Prepared& prepared,
                                    const PrepareOptions& options, const KitSources& sources,
                                    PlanFacts& facts);

}  // namespace wexlo
