#include "image/partitions.hpp"

#include <algorithm>

namespace wexlo {
namespace {

using enum PartitionClass;

constexpr PartitionRow kRows[] = {
    {.name = "boot",
     .kind = Boot,
     .image = "boot",
     .chain = true,
     .joined = 4,
     .target = 2,
     .kernel = 1,
     .trees = true},
    // Phones that split the boot image: a header with a kernel alone, one with a ramdisk alone.
    {.name = "kernel", .kind = Boot, .image = "boot", .chain = true, .kernel = 2, .trees = true},
    {.name = "ramdisk", .kind = Boot, .image = "boot", .chain = true, .joined = 5, .target = 3},
    {.name = "init_boot", .kind = Boot, .image = "boot", .chain = true, .joined = 3, .target = 1},
    {.name = "vendor_boot",
     .kind = Boot,
     .image = "vendor_boot",
     .chain = true,
     .joined = 1,
     .target = 4,
     .trees = true},
    {.name = "vendor_kernel_boot",
     .kind = Boot,
     .image = "vendor_boot",
     .chain = true,
     .joined = 2,
     .trees = true},
    {.name = "recovery", .kind = Boot, .image = "boot", .chain = true, .joined = 6, .target = 5},
    {.name = "recovery_ramdisk",
     .kind = Boot,
     .image = "boot",
     .chain = true,
     .joined = 7,
     .target = 6},
    {.name = "recovery_kernel", .kind = Boot, .image = "boot"},
    {.name = "dtbo", .kind = Boot, .chain = true, .trees = true},
    {.name = "dtb", .kind = Boot, .trees = true},
    {.name = "pvmfw", .kind = Boot},
    {.name = "vbmeta", .kind = Vbmeta, .image = "vbmeta", .chain = true},
    {.name = "vbmeta_system", .kind = Vbmeta, .image = "vbmeta", .chain = true},
    {.name = "vbmeta_vendor", .kind = Vbmeta, .image = "vbmeta", .chain = true},
};

}  // namespace

std::span<const PartitionRow> partition_rows() {
  return kRows;
}

std::string_view image_kind_of(std::string_view name) {
  if (const PartitionRow* row = partition_row(name)) return row->image;
  return is_vbmeta(name) ? "vbmeta" : "";
}

const PartitionRow* partition_row(std::string_view name) {
  const auto* at = std::ranges::find(kRows, name, &PartitionRow::name);
  return at == std::end(kRows) ? nullptr : at;
}

PartitionClass partition_class(std::string_view name) {
  if (is_vbmeta(name)) return Vbmeta;
  const PartitionRow* row = partition_row(name);
  return row == nullptr ? Other : row->kind;
}

namespace {

/// Names of the rows that have it, in the order of its value; equal ones in the table's.
template <class Field>
std::vector<std::string_view> names_by(Field PartitionRow::*field, bool sorted) {
  std::vector<const PartitionRow*> rows;
  for (const PartitionRow& row : kRows)
    if (row.*field) rows.push_back(&row);
  if (sorted) std::ranges::stable_sort(rows, {}, field);
  std::vector<std::string_view> out;
  for (const PartitionRow* row : rows)
    out.push_back(row->name);
  return out;
}

}  // namespace

std::vector<std::string_view> ramdisk_partitions(RamdiskOrder order) {
  const auto field = order == RamdiskOrder::Target ? &PartitionRow::target : &PartitionRow::joined;
  return names_by(field, order != RamdiskOrder::Told);
}

std::vector<std::string_view> kernel_partitions() {
  return names_by(&PartitionRow::kernel, true);
}

std::vector<std::string_view> tree_partitions() {
  return names_by(&PartitionRow::trees, false);
}

std::string_view slot_suffix(std::string_view name) {
  return name.size() > 2 && (name.ends_with("_a") || name.ends_with("_b"))
             ? name.substr(name.size() - 2)
             : std::string_view();
}

std::string_view without_slot(std::string_view name) {
  return name.substr(0, name.size() - slot_suffix(name).size());
}

}  // namespace wexlo
