#pragma once
/// The stock image again, from a patched one and the kits around it.

#include "recipe/restore.hpp"

namespace wexlo {

/// @param path   of the patched image: a kit is looked for around it and around the stock copy
/// @param stock  the stock image as it was kept; empty: from the patched image alone
/// Errors: those of restore_image, and of a kit's manifest that does not read.
[[nodiscard]] Result<Restored> restore_file(const LoadedImage& patched,
                                            const std::filesystem::path& path,
                                            const std::filesystem::path& stock,
                                            const Context& context);

}  // namespace wexlo
