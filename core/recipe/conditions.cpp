/// Which edits concern an image, and whether what they depend on holds.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "recipe/work.hpp"

namespace wexlo {
namespace {

std::string failing_sdk(const Conditions& conditions, const Work& work) {
  const auto& sdk = work.phone.sdk;
  if (!conditions.sdk_at_least && !conditions.sdk_at_most) return {};
  if (!sdk) return "it asks for an API level, and nothing here tells the build's";
  if (conditions.sdk_at_least && *sdk < *conditions.sdk_at_least)
    return fmt::format("it is for API level {} and up, the build has {}", *conditions.sdk_at_least,
                       *sdk);
  if (conditions.sdk_at_most && *sdk > *conditions.sdk_at_most)
    return fmt::format("it is for API level {} and below, the build has {}",
                       *conditions.sdk_at_most, *sdk);
  return {};
}

}  // namespace

bool can_hold(const Image& image, Home home) {
  const auto filled = [&](std::string_view name) {
    const Section* section = image.section(name);
    return section != nullptr && !section->bytes.empty();
  };
  switch (home) {
    case Home::StartRamdisk: return image.kind() == "boot" || image.kind() == "vendor_boot";
    case Home::VendorRamdisk: return image.kind() == "vendor_boot";
    case Home::RecoveryRamdisk: return image.kind() == "boot" || image.kind() == "vendor_boot";
    case Home::Mounts: return image.kind() != "vbmeta";
    case Home::Cmdline: return image.layout().field("cmdline") != nullptr;
    case Home::Bootconfig: return image.section("bootconfig") != nullptr;
    case Home::Header: return image.kind() == "boot" || image.kind() == "vendor_boot";
    case Home::Kernel: return filled("kernel") || filled("second");
    case Home::Trees: return image.kind() != "vbmeta";
    case Home::Vbmeta: return image.kind() == "vbmeta" || image.kind() == "boot";
  }
  return false;
}

std::string failing(const Conditions& conditions, Work& work, RamdiskLayout layout) {
  const auto lacks = [](const auto& list, const auto& value) {
    return !list.empty() && std::ranges::find(list, value) == list.end();
  };
  const std::string& processor =
      work.phone.architecture.empty() ? work.kernel_architecture() : work.phone.architecture;
  if (lacks(conditions.architectures, processor))
    return fmt::format("it is for {}, the image is for {}",
                       fmt::join(conditions.architectures, " or "),
                       processor.empty() ? "an unknown processor" : processor);
  if (lacks(conditions.layouts, layout_name(layout)))
    return fmt::format("it is for layout {}, the image has {}",
                       fmt::join(conditions.layouts, " or "), layout_name(layout));
  if (lacks(conditions.partitions, work.role.partition))
    return fmt::format("it is for {}, this is {}", fmt::join(conditions.partitions, " or "),
                       work.role.partition);
  if (lacks(conditions.header_versions, work.image.layout().version))
    return fmt::format("it is for header version {}, the image has {}",
                       fmt::join(conditions.header_versions, " or "), work.image.layout().version);
  return failing_sdk(conditions, work);
}

}  // namespace wexlo
