/// What an image tells of the partition it belongs to, and of the phone.

#include "firmware/build_text.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "image/kernel.hpp"
#include "image/kernel_release.hpp"
#include "ramdisk/layout.hpp"
#include "ramdisk/textfiles.hpp"
#include "recipe/patch.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {

std::string claimed_partition(const LoadedImage& image) {
  if (!image.image) return {};
  const auto vbmeta = verified::own_struct(image.bytes.view());
  if (vbmeta && *vbmeta) {
    const auto all = verified::descriptors(**vbmeta);
    const std::string_view kind = boot::partition_kind(*image.image);
    const auto own = all ? verified::own_hash_descriptor(*all, image.bytes.view(), kind)
                         : std::optional<std::size_t>();
    if (own) return std::get<verified::HashDescriptor>((*all)[*own].value).partition;
  }
  return {};
}

std::string partition_of(const LoadedImage& image) {
  if (!image.image) return std::string(image.format->kind);
  if (std::string claimed = claimed_partition(image); !claimed.empty()) return claimed;
  // A bare table is what the partition dtbo holds.
  if (image.image->kind() == "dt-table") return "dtbo";
  return std::string(boot::partition_kind(*image.image));
}

namespace {

/// Property files that a first ramdisk may bring.
constexpr const char* kPropertyFiles[] = {"default.prop", "prop.default",
                                          "system/etc/ramdisk/build.prop"};
constexpr const char* kFingerprints[] = {"ro.build.fingerprint", "ro.bootimage.build.fingerprint",
                                         "ro.vendor.build.fingerprint"};

void take_properties(const Ramdisk& ramdisk, PhoneFacts& facts) {
  for (const char* place : kPropertyFiles) {
    const auto at = resolve(ramdisk, place);
    if (!at) continue;
    const Blob content = content_of(ramdisk, *at);
    const std::string_view text = as_text(content.view());
    if (const auto value = property(text, "ro.build.version.sdk"); value && !facts.sdk)
      facts.sdk = static_cast<std::uint32_t>(std::atoi(value->c_str()));
    for (const char* name : kFingerprints)
      if (const auto value = property(text, name); value && facts.build.empty())
        facts.build = *value;
  }
}

/// The generation that the first module is built for which says one.
std::string generation_of_modules(const Ramdisk& ramdisk) {
  for (const RamdiskSegment& segment : ramdisk.segments)
    for (const newc::Entry& entry : segment.archive.entries) {
      if (!entry.name().ends_with(".ko")) continue;
      std::string out = kernel::generation_of(kernel::module_release(entry.data().view()));
      if (!out.empty()) return out;
    }
  return {};
}

}  // namespace

Result<PhoneFacts> phone_facts(const LoadedImage& image, const Context& context) {
  PhoneFacts facts;
  if (!image.image) return facts;
  BuildFacts build;
  facts_from_image(image.bytes.view(), build);
  facts.build = build.fingerprint;
  facts.patch_level = build.patch_level;
  if (facts.patch_level.empty()) facts.patch_level = boot::os_version(*image.image).patch_level;
  WEXLO_TRY(const ReadKernel kernel, image.decoded->kernel(context));
  if (kernel) {
    facts.kernel_architecture = kernel->architecture;
    facts.kernel_release = kernel->release;
    facts.kmi = kernel::generation_of(kernel->release);
  }
  WEXLO_TRY(const ReadRamdisks ramdisks, image.decoded->ramdisks(context));
  for (const auto& [part, ramdisk, trouble] : *ramdisks) {
    if (!ramdisk) continue;
    if (facts.architecture.empty()) facts.architecture = architecture_of(*ramdisk);
    take_properties(*ramdisk, facts);
    if (facts.kmi.empty() && facts.kernel_release.empty())
      facts.kmi = generation_of_modules(*ramdisk);
  }
  return facts;
}

}  // namespace wexlo
