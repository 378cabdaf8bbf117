#pragma once
/// The mount tables (fstab files) of a ramdisk together.

#include "ramdisk/ramdisk.hpp"
#include "ramdisk/textfiles.hpp"

namespace wexlo {

/// The rows of all of them, in the order of the archives; a hard link has its group's text.
[[nodiscard]] std::vector<FstabRow> mount_rows(const Ramdisk& ramdisk);

}  // namespace wexlo
