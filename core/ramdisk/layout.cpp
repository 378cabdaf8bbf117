#include "ramdisk/layout.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "image/kernel.hpp"
#include "image/partitions.hpp"

namespace wexlo {

std::string_view layout_name(RamdiskLayout layout) {
  switch (layout) {
    case RamdiskLayout::None: return "none";
    case RamdiskLayout::Root: return "ramdisk-root";
    case RamdiskLayout::TwoStage: return "two-stage";
    case RamdiskLayout::TwoStageRecovery: return "two-stage-recovery";
    case RamdiskLayout::SystemRoot: return "system-root";
    case RamdiskLayout::Generic: return "generic";
    case RamdiskLayout::Vendor: return "vendor";
    case RamdiskLayout::Recovery: return "recovery";
  }
  return "";
}

std::string_view layout_about(RamdiskLayout layout) {
  switch (layout) {
    case RamdiskLayout::None: return "there is no ramdisk in it";
    case RamdiskLayout::Root: return "its ramdisk is the system's root for good";
    case RamdiskLayout::TwoStage: return "its ramdisk runs first, mounts the system and hands over";
    case RamdiskLayout::TwoStageRecovery:
      return "its ramdisk runs first in a normal start, and is recovery's as well";
    case RamdiskLayout::SystemRoot:
      return "its ramdisk is recovery's alone: in a normal start the kernel is told to skip it";
    case RamdiskLayout::Generic:
      return "its ramdisk is the generic one, laid over vendor_boot's: its /init runs first";
    case RamdiskLayout::Vendor:
      return "its ramdisk is the vendor's: the generic one is laid over it";
    case RamdiskLayout::Recovery: return "its ramdisk is the recovery partition's own";
  }
  return "";
}

LayoutSigns signs_of(const Image& image, std::string_view partition, DecodedImage& decoded,
                     const Context& context) {
  const Section* dtbo = image.section("recovery_dtbo");
  return {image.kind(), partition, image.layout().version, dtbo != nullptr && !dtbo->bytes.empty(),
          [&decoded, &context] { return decoded.kernel_may_skip_ramdisk(context); }};
}

bool has_recovery(const Ramdisk& ramdisk) {
  return find_entry(ramdisk, "sbin/recovery") || find_entry(ramdisk, "system/bin/recovery");
}

RamdiskLayout layout_of(const Ramdisk& ramdisk, const LayoutSigns& signs) {
  constexpr unsigned kGenericFrom = 3;  // header versions
  if (signs.kind == "vendor_boot") return RamdiskLayout::Vendor;
  if (signs.partition.starts_with("recovery")) return RamdiskLayout::Recovery;
  const bool recovery = has_recovery(ramdisk);
  if (signs.header_version >= kGenericFrom && !recovery) return RamdiskLayout::Generic;
  if (recovery) {
    // Boot may carry one, too, where recovery is in it: the name tells more than the part does.
    const bool named = partition_row(without_slot(signs.partition)) != nullptr;
    if (signs.recovery_dtbo && !named) return RamdiskLayout::Recovery;
    if (find_entry(ramdisk, "first_stage_ramdisk")) return RamdiskLayout::TwoStageRecovery;
    const bool skips = signs.kernel_may_skip && signs.kernel_may_skip();
    return skips ? RamdiskLayout::SystemRoot : RamdiskLayout::TwoStageRecovery;
  }
  const bool whole_root = find_entry(ramdisk, "init.rc") || find_entry(ramdisk, "sepolicy");
  return whole_root ? RamdiskLayout::Root : RamdiskLayout::TwoStage;
}

std::string elf_architecture(View file) {
  // e_ident: magic, class, byte order; e_machine at 18.
  constexpr std::size_t kMachineAt = 18;
  if (!as_text(file).starts_with("\x7f"
                                 "ELF") ||
      file.size() < kMachineAt + 2)
    return {};
  const bool big = file[5] == std::byte{2};
  const auto machine = big ? load<std::uint16_t, std::endian::big>(file.data() + kMachineAt)
                           : load<std::uint16_t, std::endian::little>(file.data() + kMachineAt);
  switch (machine) {
    case 3: return "x86";
    case 40: return "arm";
    case 62: return "x86_64";
    case 183: return "arm64";
    case 243: return "riscv64";
    default: return {};
  }
}

namespace {

/// Places in an ELF header and in its program headers, by class.
struct ElfPlaces {
  std::size_t headers, entry_size, count, alignment, header;
};
constexpr ElfPlaces kElf32{28, 42, 44, 28, 52}, kElf64{32, 54, 56, 48, 64};

template <std::endian E>
std::optional<std::uint64_t> alignment_of(View file, const ElfPlaces& places, bool wide) {
  const auto number = [&](std::size_t at) -> std::uint64_t {
    return wide ? load<std::uint64_t, E>(file.data() + at)
                : load<std::uint32_t, E>(file.data() + at);
  };
  const std::uint64_t table = number(places.headers);
  const std::size_t size = load<std::uint16_t, E>(file.data() + places.entry_size),
                    count = load<std::uint16_t, E>(file.data() + places.count);
  if (size < places.alignment + (wide ? 8 : 4) || table > file.size() ||
      count * size > file.size() - table)
    return std::nullopt;
  constexpr std::uint32_t kLoad = 1;
  std::optional<std::uint64_t> out;
  for (std::size_t i = 0; i < count; ++i) {
    const std::size_t at = static_cast<std::size_t>(table) + i * size;
    if (load<std::uint32_t, E>(file.data() + at) != kLoad) continue;
    const std::uint64_t alignment = number(at + places.alignment);
    out = std::min(out.value_or(alignment), alignment);
  }
  return out;
}

}  // namespace

std::optional<std::uint64_t> elf_alignment(View file) {
  if (elf_architecture(file).empty()) return std::nullopt;
  const bool wide = file[4] == std::byte{2};
  const ElfPlaces& places = wide ? kElf64 : kElf32;
  if (file.size() < places.header) return std::nullopt;
  return file[5] == std::byte{2} ? alignment_of<std::endian::big>(file, places, wide)
                                 : alignment_of<std::endian::little>(file, places, wide);
}

std::string pages_trouble(std::string_view place, View program, std::uint32_t pages) {
  const auto aligned = elf_alignment(program);
  if (!aligned || *aligned >= pages) return {};
  return fmt::format(
      "/{} is linked for pages of {} bytes, and the kernel has pages of {}: it cannot start.",
      place, *aligned, pages);
}

std::optional<EntryAt> resolve(const Ramdisk& ramdisk, std::string_view place) {
  std::string now(place);
  for (int hops = 0; hops < 8; ++hops) {
    const auto at = find_entry(ramdisk, now);
    if (!at || entry_at(ramdisk, *at).type() != newc::Symlink) return at;
    const std::string target(as_text(entry_at(ramdisk, *at).data().view()));
    const auto cut = now.rfind('/');
    const std::string base =
        target.starts_with('/') || cut == std::string::npos ? "" : now.substr(0, cut + 1);
    now = newc::place_of(base + target);
    if (("/" + now + "/").find("/../") != std::string::npos) return std::nullopt;
  }
  return std::nullopt;
}

std::string architecture_of(const Ramdisk& ramdisk) {
  for (const char* place : {"init", "system/bin/init", "wexlo/stock/init"}) {
    const auto at = resolve(ramdisk, place);
    if (!at) continue;
    if (auto word = elf_architecture(content_of(ramdisk, *at).view()); !word.empty()) return word;
  }
  for (const RamdiskSegment& segment : ramdisk.segments)
    for (const newc::Entry& entry : segment.archive.entries)
      if (entry.type() == newc::Regular)
        if (auto word = elf_architecture(entry.data().view()); !word.empty()) return word;
  return {};
}

}  // namespace wexlo
