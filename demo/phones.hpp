#pragma once
/// The firmware of the older invented phones.
///
/// `vernier` (Korvale Tarn 2): two slots, boot of header version 2 with recovery inside, logical
/// partitions; a factory zip with the zip of the images in it.
/// `plumbline` (Korvale Tarn 1): one slot, boot and recovery of header version 1; a download-mode
/// tar with lz4 members and a sum line.

#include <filesystem>

#include "base/pool.hpp"
#include "demo/content.hpp"

namespace wexlo::demo {

/// Two runs give the same bytes. Errors: Io, Exists, Interrupted.
[[nodiscard]] Status write_vernier(const std::filesystem::path& zip, FirmwareSize size,
                                   const Context& context);
[[nodiscard]] Status write_plumbline(const std::filesystem::path& tar, FirmwareSize size,
                                     const Context& context);

}  // namespace wexlo::demo
