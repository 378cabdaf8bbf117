/// Which edits concern an image, and whether what they depend on holds.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "image/kernel_release.hpp"
#include "recipe/conditions.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

bool lacks(const std::vector<std::string>& list, std::string_view value) {
  return !list.empty() && std::ranges::find(list, value) == list.end();
}

std::string failing_processor(const Conditions& conditions, const PhoneFacts& phone) {
  const std::string& processor = phone.processor();
  if (!lacks(conditions.architectures, processor)) return {};
  return fmt::format("it is for {}, the image is for {}",
                     fmt::join(conditions.architectures, " or "),
                     processor.empty() ? "an unknown processor" : processor);
}

std::string failing_sdk(const Conditions& conditions, const PhoneFacts& phone) {
  const auto& sdk = phone.sdk;
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

Status needs_value(std::string_view name, const PhoneFacts& phone) {
  Error error = unknown_value(name, phone);
  error.message = "it depends on the phone's kernel, and " + error.message;
  return fail(std::move(error));
}

Result<std::string> failing_kernel(const Conditions& conditions, const PhoneFacts& phone) {
  if (!conditions.generations.empty()) {
    // A kernel that is no generic one is of no generation: that is known, too.
    if (phone.kmi.empty() && phone.kernel_release.empty()) WEXLO_CHECK(needs_value("kmi", phone));
    if (lacks(conditions.generations, phone.kmi))
      return fmt::format("it is for kernels of {}, this one is {}",
                         fmt::join(conditions.generations, " or "),
                         phone.kmi.empty() ? phone.kernel_release : phone.kmi);
  }
  if (conditions.kernels.empty()) return std::string();
  if (phone.kernel_release.empty()) WEXLO_CHECK(needs_value("kernel_release", phone));
  const auto suits = [&](const std::string& one) {
    return kernel::is_release(phone.kernel_release, one);
  };
  if (std::ranges::any_of(conditions.kernels, suits)) return std::string();
  return fmt::format("it is for kernel {}, this one is {}", fmt::join(conditions.kernels, " or "),
                     phone.kernel_release);
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

Result<std::string> failing_of_phone(const Conditions& conditions, const PhoneFacts& phone) {
  if (std::string other = failing_processor(conditions, phone); !other.empty()) return other;
  if (std::string sdk = failing_sdk(conditions, phone); !sdk.empty()) return sdk;
  return failing_kernel(conditions, phone);
}

bool asks_for_kernel(const Conditions& conditions) {
  return !conditions.generations.empty() || !conditions.kernels.empty();
}

bool ask_for_kernel(const std::vector<Recipe>& recipes) {
  const auto named = [](const std::set<std::string>& open) {
    return open.contains("kmi") || open.contains("kernel_release");
  };
  const auto asks = [&](const Edit& edit) {
    return asks_for_kernel(edit.when) || named(edit.open) ||
           (edit.file() != nullptr && named(edit.file()->open));
  };
  return std::ranges::any_of(recipes, [&](const Recipe& recipe) {
    return asks_for_kernel(recipe.needs) || std::ranges::any_of(recipe.edits, asks);
  });
}

bool is_for(const Conditions& conditions, const PhoneFacts& phone) {
  const auto reason = failing_of_phone(conditions, phone);
  return reason && reason->empty();
}

Result<std::string> failing(const Conditions& conditions, Work& work, RamdiskLayout layout) {
  if (!conditions.architectures.empty() && work.phone.architecture.empty())
    (void)work.kernel_architecture();
  if (std::string other = failing_processor(conditions, work.phone); !other.empty()) return other;
  if (lacks(conditions.layouts, layout_name(layout)))
    return fmt::format("it is for layout {}, the image has {}{}",
                       fmt::join(conditions.layouts, " or "), layout_name(layout),
                       conditions.reason.empty() ? "" : " (" + conditions.reason + ")");
  if (lacks(conditions.partitions, work.role.partition))
    return fmt::format("it is for {}, this is {}", fmt::join(conditions.partitions, " or "),
                       work.role.partition);
  const auto& versions = conditions.header_versions;
  if (!versions.empty() && !contains(versions, work.image.layout().version))
    return fmt::format("it is for header version {}, the image has {}", fmt::join(versions, " or "),
                       work.image.layout().version);
  return failing_of_phone(conditions, work.phone);
}

}  // namespace wexlo
