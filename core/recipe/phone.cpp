/// What an image tells of the partition it belongs to, and of the phone.

#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "image/kernel.hpp"
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

Result<PhoneFacts> phone_facts(const LoadedImage& image, const Context& context) {
  PhoneFacts facts;
  if (!image.image) return facts;
  WEXLO_TRY(const ReadRamdisks ramdisks, image.decoded->ramdisks(context));
  for (const auto& [part, ramdisk, trouble] : *ramdisks) {
    if (!ramdisk) continue;
    if (facts.architecture.empty()) facts.architecture = architecture_of(*ramdisk);
    for (const char* place : {"default.prop", "prop.default", "system/etc/ramdisk/build.prop"}) {
      const auto at = resolve(*ramdisk, place);
      const auto value =
          at ? property(as_text(content_of(*ramdisk, *at).view()), "ro.build.version.sdk")
             : std::nullopt;
      if (value && !facts.sdk) facts.sdk = static_cast<std::uint32_t>(std::atoi(value->c_str()));
    }
  }
  WEXLO_TRY(const ReadKernel kernel, image.decoded->kernel(context));
  if (kernel) facts.kernel_architecture = kernel->architecture;
  return facts;
}

}  // namespace wexlo
