#include "firmware/versioned_names.hpp"

#include <string_view>
#include <utility>

namespace wexlo {

std::string VersionedNames::partition(const FileName& file) {
  for (const std::string_view known : {"bootloader", "radio"}) {
    if (!file.partition.starts_with(std::string(known) + "-")) continue;
    (known == "radio" ? radio_ : bootloader_) = file.partition.substr(known.size() + 1);
    return std::string(known);
  }
  return file.partition;
}

void VersionedNames::tell(BuildFacts& build) const {
  const auto put = [&](std::string& into, std::string version) {
    const std::string device = build.device + "-";
    if (version.starts_with(device)) version.erase(0, device.size());
    if (into.empty()) into = std::move(version);
  };
  put(build.baseband, radio_);
  put(build.bootloader, bootloader_);
}

}  // namespace wexlo
