#pragma once
/// Files whose names carry a version behind the partition's name: `bootloader-gnomon-1.2.img`
/// beside the zip of the images.

#include <string>

#include "firmware/file_names.hpp"
#include "firmware/firmware.hpp"

namespace wexlo {

class VersionedNames {
 public:
  /// The partition that a file is for; a version in its name is kept for `tell`.
  std::string partition(const FileName& file);
  /// What the names said of bootloader and radio, where no text did: without the device's name.
  void tell(BuildFacts& build) const;

 private:
  std::string radio_, bootloader_;
};

}  // namespace wexlo
