#include "flash/phones_own.hpp"

namespace wexlo {
namespace {

struct BootHead {
  bool two_ramdisks = false;  ///< of header versions 3 and 4 the first one is vendor_boot's
  bool has_ramdisk = true;
};

/// What boot's first bytes say; docs/formats/boot.md.
BootHead head_of(const Source& boot) {
  constexpr std::size_t kRamdiskSizeAt = 12, kVersionAt = 40, kHead = 44;
  const auto head = read_some(boot, 0, kHead);
  if (!head || head->size() < kHead || !as_text(*head).starts_with("ANDROID!")) return {};
  const auto version = load<std::uint32_t, LE>(head->data() + kVersionAt);
  if (version != 3 && version != 4) return {};
  return {true, load<std::uint32_t, LE>(head->data() + kRamdiskSizeAt) != 0};
}

}  // namespace

std::set<std::string> phones_own(const ImageByName& image) {
  std::set<std::string> out;
  const SourcePtr boot = image("boot");
  const bool init_boot = image("init_boot") != nullptr;
  if (boot == nullptr && image("ramdisk") == nullptr) out.insert("boot");
  const BootHead head = boot == nullptr ? BootHead{} : head_of(*boot);
  const bool two = head.two_ramdisks || init_boot;
  if (two && image("vendor_boot") == nullptr) out.insert("vendor_boot");
  if (head.two_ramdisks && !head.has_ramdisk && !init_boot) out.insert("init_boot");
  return out;
}

}  // namespace wexlo
