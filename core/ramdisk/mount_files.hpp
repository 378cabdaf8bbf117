#pragma once
/// Where a ramdisk declares mount points.

#include <map>
#include <string>

#include "ramdisk/ramdisk.hpp"

namespace wexlo {

/// The fstab files of a ramdisk by their places, each where it is named last: that one counts.
[[nodiscard]] std::map<std::string, EntryAt> mount_files(const Ramdisk& ramdisk);

}  // namespace wexlo
