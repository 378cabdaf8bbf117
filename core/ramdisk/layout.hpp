#pragma once
/// How a phone uses a ramdisk, told from what is in it: docs/formats/ramdisk-layouts.md.

#include <functional>
#include <optional>
#include <string>

#include "image/layout.hpp"
#include "ramdisk/decoded.hpp"
#include "ramdisk/ramdisk.hpp"

namespace wexlo {

enum class RamdiskLayout {
  None,              ///< no ramdisk
  Root,              ///< it is the system's root, for good
  TwoStage,          ///< small: mounts the system and hands over
  TwoStageRecovery,  ///< the same, with recovery in it
  SystemRoot,        ///< recovery's alone: the kernel is told to skip it in a normal start
  Generic,           ///< the same for all phones; the vendor's ramdisk is joined in front of it
  Vendor,            ///< vendor_boot's
  Recovery,          ///< the recovery partition's
};
/// "none", "ramdisk-root", "two-stage", "two-stage-recovery", "system-root", "generic", "vendor",
/// "recovery".
[[nodiscard]] std::string_view layout_name(RamdiskLayout layout);
/// A clause for people: what it means for an edit.
[[nodiscard]] std::string_view layout_about(RamdiskLayout layout);

struct LayoutSigns {
  std::string_view kind;       ///< of the image
  std::string_view partition;  ///< its name, where known
  unsigned header_version = 0;
  bool recovery_dtbo = false;               ///< the image has such a section
  std::function<bool()> kernel_may_skip{};  ///< the kernel knows the word for skipping it
};
/// The signs of an image; its kernel is unpacked only if it is asked about. All that is given has
/// to live as long as the signs.
[[nodiscard]] LayoutSigns signs_of(const Image& image, std::string_view partition,
                                   DecodedImage& decoded, const Context& context);
[[nodiscard]] RamdiskLayout layout_of(const Ramdisk& ramdisk, const LayoutSigns& signs);

[[nodiscard]] bool has_recovery(const Ramdisk& ramdisk);

/// The processor an ELF file is for: "arm64", "arm", "x86_64", "x86", "riscv64"; empty: no ELF, or
/// another.
[[nodiscard]] std::string elf_architecture(View file);
/// Smallest alignment of a program's loaded segments, bytes; nullopt: it is none, or has none of
/// them. A kernel whose pages are larger does not start it.
[[nodiscard]] std::optional<std::uint64_t> elf_alignment(View file);
/// Why a program cannot start on pages of that size, a sentence; empty: it can, or is no program.
/// @param pages  bytes of a page of the kernel; 0: not known
[[nodiscard]] std::string pages_trouble(std::string_view place, View program, std::uint32_t pages);

/// The first program's, links in the ramdisk followed; else that of any program or kernel module.
[[nodiscard]] std::string architecture_of(const Ramdisk& ramdisk);

/// The entry behind symlinks (their last component) that stay in the ramdisk; nullopt: it is not
/// there, or leads out.
[[nodiscard]] std::optional<EntryAt> resolve(const Ramdisk& ramdisk, std::string_view place);

}  // namespace wexlo
