#include "compare/difference.hpp"

#include <array>

namespace wexlo {

std::string_view area_name(DifferenceArea area) {
  constexpr std::array<std::string_view, 11> kNames{
      "header",      "part",   "ramdisk", "kernel",   "cmdline",  "bootconfig",
      "device-tree", "vbmeta", "selinux", "wrapping", "partition"};
  return kNames[static_cast<std::size_t>(area)];
}

std::string_view difference_name(DifferenceKind kind) {
  constexpr std::array<std::string_view, 9> kNames{"added", "removed", "changed", "content", "mode",
                                                   "owner", "type",    "link",    "device"};
  return kNames[static_cast<std::size_t>(kind)];
}

}  // namespace wexlo
