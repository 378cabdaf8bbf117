#pragma once
/// The partitions that take part in a start, in one table: what kind of image each holds, whether a
/// ramdisk is in it, and where it stands in the orders that matter.

#include <span>
#include <string_view>
#include <vector>

namespace wexlo {

enum class PartitionClass {
  Boot,    ///< what a loader starts, or gives to the kernel: read whole and judged
  Vbmeta,  ///< a struct of verified boot that covers other partitions
  Other,   ///< file systems, super, a maker's own
};

struct PartitionRow {
  std::string_view name;
  PartitionClass kind = PartitionClass::Other;
  std::string_view image{};  ///< kind of the image in it; empty: device trees, or a maker's own
  bool chain = false;        ///< taken out of firmware when nobody names partitions
  /// Place among the ramdisks in the order that a kernel unpacks them, from 1; 0: none of them.
  unsigned joined = 0;
  /// Place among those that may hold the system's first ramdisk, likeliest first, from 1; 0: none.
  unsigned target = 0;
  /// Place among those that may hold the kernel of a normal start, from 1; 0: none.
  unsigned kernel = 0;
  bool trees = false;  ///< device trees may be in it
};

/// In the order in which they are told and written: vbmeta and its siblings last. A partition that
/// is not in here is of class Other, but for `vbmeta_*`.
[[nodiscard]] std::span<const PartitionRow> partition_rows();
/// nullptr: no row. @param name  without slot suffix
[[nodiscard]] const PartitionRow* partition_row(std::string_view name);

/// The kind of image that a loader wants in a partition; empty: its maker's matter.
/// @param name  without slot suffix
[[nodiscard]] std::string_view image_kind_of(std::string_view name);

/// @param name  without slot suffix
[[nodiscard]] PartitionClass partition_class(std::string_view name);
[[nodiscard]] inline bool is_boot_class(std::string_view name) {
  return partition_class(name) == PartitionClass::Boot;
}
/// "vbmeta", "vbmeta_system" and any other of them.
[[nodiscard]] inline bool is_vbmeta(std::string_view name) {
  return name.starts_with("vbmeta");
}

/// Names of those with a ramdisk. Joined: vendor_boot first. Target: init_boot first.
enum class RamdiskOrder { Told, Joined, Target };
[[nodiscard]] std::vector<std::string_view> ramdisk_partitions(RamdiskOrder order);

/// Names of those that may hold the kernel of a normal start, likeliest first.
[[nodiscard]] std::vector<std::string_view> kernel_partitions();
/// Names of those that may hold device trees, in the order of the table.
[[nodiscard]] std::vector<std::string_view> tree_partitions();

/// "_a" or "_b" at the end, or nothing.
[[nodiscard]] std::string_view slot_suffix(std::string_view name);
/// The name without that; points into `name`.
[[nodiscard]] std::string_view without_slot(std::string_view name);

}  // namespace wexlo
