#pragma once
/// One difference between two images, as data: docs/commands.md, "compare".

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace wexlo {

/// Where in an image something differs.
enum class DifferenceArea : std::uint8_t {
  Header,
  Part,  ///< a section as a whole, e.g. the kernel
  Ramdisk,
  Kernel,
  Cmdline,
  Bootconfig,
  DeviceTree,
  Vbmeta,
  Selinux,
  Wrapping,   ///< what stands around the image
  Partition,  ///< the image as a whole
};
/// As JSON and tables have it, e.g. "device-tree".
[[nodiscard]] std::string_view area_name(DifferenceArea area);

/// In which way it differs.
enum class DifferenceKind : std::uint8_t {
  Added,
  Removed,
  Changed,
  Content,
  Mode,
  Owner,
  Type,
  Link,
  Device,  ///< the numbers of a device entry
};
/// As JSON and tables have it, e.g. "content".
[[nodiscard]] std::string_view difference_name(DifferenceKind kind);

struct Difference {
  DifferenceArea area = DifferenceArea::Header;
  DifferenceKind kind = DifferenceKind::Changed;
  std::string where;  ///< field, part, place in the ramdisk, word, descriptor
  std::string before, after;
  std::vector<std::string> lines{};  ///< text files: the differing lines, see diff_lines
};

}  // namespace wexlo
