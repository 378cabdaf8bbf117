#include "kit/facts/shape.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "archive/bundle.hpp"
#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "judge/phone_set.hpp"
#include "judge/subject.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Where data begins in a super of the usual alignment.
constexpr std::uint64_t kBeforeData = 1u << 20;

bool has_layer(const Firmware& firmware, std::string_view kind) {
  return contains(firmware.layers, kind, &Layer::kind);
}

/// The word `slotselect` among the flags of a mount point.
bool selects_slot(const std::string& fstab) {
  for (const std::string_view word : split_words(fstab)) {
    std::string_view rest = word;
    while (!rest.empty()) {
      const std::size_t end = std::min(rest.find(','), rest.size());
      if (rest.substr(0, end) == "slotselect") return true;
      rest.remove_prefix(std::min(end + 1, rest.size()));
    }
  }
  return false;
}

/// A mount point of the system, by a line of an fstab or a node of a device tree.
bool mounts_system(const std::string& fstab) {
  static constexpr std::array<std::string_view, 5> kSystem{"/", "/system", "/vendor", "/product",
                                                           "/system_root"};
  return std::ranges::any_of(split_words(fstab),
                             [](std::string_view word) { return contains(kSystem, word); });
}

struct SlotSigns {
  std::optional<bool> slotted{};
  std::string why{};
};

/// What the images of the boot chain say.
SlotSigns slots_by_images(const std::vector<ImageFacts>& chain) {
  bool mounts = false;
  for (const ImageFacts& image : chain)
    for (const auto& [place, text] : image.fstabs) {
      mounts |= mounts_system(text);
      if (selects_slot(text))
        return {true, fmt::format("{} in {} picks partitions by slot", place, image.partition)};
    }
  for (const ImageFacts& image : chain) {
    const bool old_boot = image.partition == "boot" && image.header_version.value_or(3) <= 2;
    // A phone with two slots of that time has recovery in boot.
    const bool alone =
        image.layout == RamdiskLayout::Root || image.layout == RamdiskLayout::TwoStage;
    if (old_boot && alone)
      return {false, fmt::format("boot's header is of version {} and its ramdisk has no recovery "
                                 "in it",
                                 *image.header_version)};
  }
  if (mounts) return {false, "no mount point picks a slot"};
  return {};
}

SlotSigns find_slots(const Firmware& firmware, const std::vector<ImageFacts>& chain) {
  for (const PartitionFacts& one : firmware.partitions)
    if (!slot_suffix(one.name).empty())
      return {true, fmt::format("the package has a partition {}", one.name)};
  if (has_layer(firmware, "payload"))
    return {true, "packages with a payload are for phones with two slots"};
  SlotSigns out = slots_by_images(chain);
  const bool recovery = firmware.find("recovery") != nullptr;
  if (out.slotted == true) return out;
  if (recovery && out.slotted) return {false, "a recovery partition, and " + out.why};
  const bool newer = std::ranges::any_of(
      chain, [](const ImageFacts& one) { return one.header_version.value_or(0) >= 3; });
  if (recovery && !newer) return {false, "it has a recovery partition of its own"};
  return out;
}

/// How the phone takes images.
void find_way(const Firmware& firmware, const std::vector<ImageFacts>& chain, const Sheet* sheet,
              PhoneShape& out) {
  const auto set = [&](Way way, std::string why) {
    out.way = way;
    out.way_known = true;
    out.way_why = std::move(why);
  };
  const std::string mode = sheet == nullptr ? std::string() : sheet->text("phone.mode");
  if (!mode.empty())
    return set(mode == "download" ? Way::Download : Way::Bootloader, "the sheet says so");
  const auto enforcing = std::ranges::find(chain, true, &ImageFacts::enforcing);
  if (!firmware.signs.download.empty()) return set(Way::Download, firmware.signs.download);
  if (!firmware.signs.bootloader.empty()) return set(Way::Bootloader, firmware.signs.bootloader);
  if (enforcing != chain.end())
    return set(Way::Download, fmt::format("{} ends in the trailer that phones with a download mode "
                                          "want",
                                          enforcing->partition));
  out.way_why = "nothing in the firmware says how the phone takes images";
}

std::string with_slot(const std::string& name, const std::string& slot) {
  return slot_suffix(name).empty() ? name + "_" + slot : name;
}

}  // namespace

PhoneShape shape_of(const Firmware& firmware, const std::vector<ImageFacts>& chain,
                    const Sheet* sheet) {
  PhoneShape out;
  SlotSigns found = find_slots(firmware, chain);
  out.slotted = found.slotted;
  out.slots_why = std::move(found.why);
  const std::string slots = sheet == nullptr ? std::string() : sheet->text("state.slots");
  if (!slots.empty()) {
    out.slotted = slots == "2";
    out.slots_why = "the sheet says so";
  }
  find_way(firmware, chain, sheet, out);
  return out;
}

SuperFacts super_facts(const Firmware& firmware, const Sheet* sheet, bool slotted) {
  SuperFacts out{.partitions = {}, .groups = {}, .slotted = slotted};
  if (sheet != nullptr && !sheet->logical.empty()) {
    out.partitions = sheet->logical;
    out.groups = sheet->groups;
  } else {
    const bool logical = std::ranges::any_of(
        firmware.partitions, [](const PartitionFacts& one) { return !one.inside.empty(); });
    std::string slot = sheet == nullptr ? std::string() : sheet->text("state.current_slot");
    if (slot.empty()) slot = "a";
    for (const Group& group : firmware.groups) {
      out.groups.push_back({group.name, group.size});
      for (const std::string& name : group.partitions) {
        const auto at = std::ranges::find_if(firmware.partitions, [&](const PartitionFacts& one) {
          return one.name == name && (!logical || !one.inside.empty());
        });
        if (at == firmware.partitions.end()) continue;
        // A payload speaks of one slot and names none.
        out.partitions.push_back(
            {slotted && !logical ? with_slot(name, slot) : name, at->size, group.name});
      }
    }
    if (const PartitionFacts* super = firmware.find("super"); super != nullptr)
      out.size = super->size - std::min(super->size, kBeforeData);
  }
  if (sheet == nullptr) return out;
  std::uint64_t taken = 0;
  for (const LogicalPartition& one : out.partitions)
    taken += one.size;
  if (const auto free = sheet->number("super.free"))
    out.size = taken + *free;
  else if (const auto size = sheet->number("super.size"))
    out.size = *size - std::min(*size, kBeforeData);
  return out;
}

std::string logical_name(const SuperFacts& super, const std::string& partition,
                         const Sheet* sheet) {
  std::string slot = sheet == nullptr ? std::string() : sheet->text("state.current_slot");
  if (slot.empty()) slot = "a";
  for (const std::string& name : {partition, partition + "_" + slot})
    if (contains(super.partitions, name, &LogicalPartition::name)) return name;
  return {};
}

Status take_rollback(const Firmware& firmware, FitFacts& out, std::vector<Finding>& findings,
                     const Context& context) {
  PhoneSet set;
  set.add(firmware);
  std::string other;
  auto walk = walk_set(set,
                       {.find = {},
                        .suffix = set.suffix("", other),
                        .root_key = {},
                        .rollback = {},
                        .look = verified::Look::Structs},
                       context);
  if (!walk && is_of_this_run(walk.error().code)) return fail(walk.error());
  if (!walk) {
    if (!contains(findings, FindingId(FindingCode::RollbackUnknown), &Finding::id))
      findings.push_back(
          {Level::Warning, FindingCode::RollbackUnknown,
           fmt::format("The firmware's rollback indexes do not read, so they were not "
                       "held against the phone's: {}",
                       describe(walk.error())),
           "vbmeta"});
    return {};
  }
  for (const verified::ChainStruct& one : walk->structs) {
    if (!one.found) continue;
    out.verified_boot = true;
    auto& index = out.rollback[one.location];
    index = std::max(index, one.rollback_index);
  }
  return {};
}

FitGiven fit_given(const Given& given) {
  FitGiven out{.partition = given.partition.empty() ? "install" : given.partition,
               .build = given.build.fingerprint,
               .patch_level = given.build.patch_level,
               .device = given.image == nullptr ? given.build.device : std::string(),
               .architecture = given.architecture,
               .slotted = given.slotted};
  if (given.partition.empty())
    out.slotted = given.payload ? std::optional(true) : std::nullopt;
  else
    out.of_the_build = given.partition != "recovery" &&
                       partition_class(without_slot(given.partition)) != PartitionClass::Other;
  return out;
}

SettingsParts settings_parts(const fs::path& firmware) {
  SettingsParts out;
  std::error_code error;
  std::vector<std::string> names;
  for (const auto& one : fs::directory_iterator(firmware, error))
    if (one.is_regular_file(error)) names.push_back(one.path().filename().string());
  if (error) return {};
  std::ranges::sort(names);
  for (const std::string& name : names) {
    if (lower_case(name).find(".tar") == name.npos) continue;
    // The keeping part is named as its wiping twin is, with a word for the user's home before it.
    for (const std::string_view word : {"home_", "home-"}) {
      const std::size_t at = lower_case(name).find(word);
      if (at == name.npos) continue;
      const std::string twin = name.substr(0, at) + name.substr(at + word.size());
      if (!contains(names, twin)) continue;
      out.keeping = name;
      out.wiping = twin;
    }
  }
  return out;
}

}  // namespace wexlo
