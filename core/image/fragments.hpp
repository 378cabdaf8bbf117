#pragma once
/// The ramdisks that an image holds: the one of a boot image, or the fragments of a vendor_boot
/// image with their table; each perhaps behind a chipset part header: docs/formats/boot.md.

#include <array>

#include "image/layout.hpp"

namespace wexlo::boot {

/// The section that lists the fragments of a vendor ramdisk.
inline constexpr std::string_view kFragmentTable = "vendor_ramdisk_table";

/// Values of a fragment's `ramdisk_type`.
enum class RamdiskType : std::uint32_t { None = 0, Platform = 1, Recovery = 2, Dlkm = 3 };
/// "none", "platform", "recovery", "dlkm"; the number for others.
[[nodiscard]] std::string ramdisk_type_name(std::uint32_t type);
[[nodiscard]] std::optional<std::uint32_t> ramdisk_type_named(std::string_view name);

struct RamdiskPart {
  std::string section;     ///< "ramdisk" or "vendor_ramdisk"
  std::size_t index = 0;   ///< in the table; 0 where there is none
  bool in_table = false;   ///< name, type and board id below are the table's
  std::string name;        ///< the fragment's own, up to its NUL; may be empty
  std::uint32_t type = 0;  ///< RamdiskType, or a value of a newer one
  std::array<std::uint32_t, 16> board_id{};
  std::uint64_t offset = 0;  ///< of `header` (or of `bytes`) in the file
  Blob header;               ///< chipset part header, 512 bytes, or empty
  Blob bytes;                ///< the ramdisk
  Blob rest;                 ///< what follows it inside the part

  /// How people and parts folders call it: the section, and the fragment's name or number.
  [[nodiscard]] std::string title() const;
  [[nodiscard]] bool is(RamdiskType of) const { return type == static_cast<std::uint32_t>(of); }
  /// Neither for recovery alone nor with modules alone.
  [[nodiscard]] bool every_start_loads() const;
};

/// Entries of the table outside the section or over each other: OutOfRange, BadValue, with offsets
/// in the image. Images without a table have nothing to check.
[[nodiscard]] Status check_fragments(const Image& image);

/// In the table's order; none where the section is empty.
[[nodiscard]] std::vector<RamdiskPart> ramdisk_parts(const Image& image);

/// Puts another ramdisk in a part's place: the part header's size (where it was true), the table's
/// sizes and offsets and the section's size follow. Parts asked for before are stale afterwards.
[[nodiscard]] Status replace_ramdisk(Image& image, std::size_t part, Blob bytes);

/// Writes a fragment's attributes into the table. Errors: Unsupported (no table), OutOfRange (the
/// name is longer than 31 bytes).
[[nodiscard]] Status set_fragment(Image& image, std::size_t part, std::string_view name,
                                  std::uint32_t type,
                                  const std::array<std::uint32_t, 16>& board_id);

/// What a fragment is called in the table.
struct FragmentKey {
  std::string name;
  std::uint32_t type = 0;
  std::array<std::uint32_t, 16> board_id{};
  bool operator==(const FragmentKey&) const = default;
};
[[nodiscard]] FragmentKey fragment_key(const RamdiskPart& part);

/// Puts one behind the others. Errors: Unsupported (the image has no table of them), OutOfRange
/// (the name is longer than 31 bytes; the ramdisk grows past what its header can say).
[[nodiscard]] Status add_fragment(Image& image, const FragmentKey& key, View bytes);
/// Takes one out; others keep their order. Errors: Unsupported (no such fragment, or the last).
[[nodiscard]] Status remove_fragment(Image& image, std::size_t part);

}  // namespace wexlo::boot
