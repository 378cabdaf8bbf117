#pragma once
/// Writers for the images of the invented phones, laid out by the formats' own rules.

#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "codec/codec.hpp"

namespace wexlo::demo {

inline constexpr std::uint32_t kFolder = 0040755, kLink = 0120777, kProgram = 0100750,
                               kFile = 0100644;

struct File {
  std::string name;
  std::uint32_t mode = kFile;  ///< with its type bits
  Bytes data;
};

/// A cpio archive, compressed.
[[nodiscard]] Bytes ramdisk(const std::vector<File>& files, Compression compression);

/// Header version 4; os_version packed.
[[nodiscard]] Bytes boot_v4(View kernel, View ramdisk, const std::string& cmdline);
/// Header version 4, one platform fragment.
[[nodiscard]] Bytes vendor_boot_v4(View ramdisk, View dtb, const std::string& cmdline,
                                   const std::string& bootconfig);
struct OldBoot {
  std::uint32_t version = 2;  ///< 1 or 2
  Bytes kernel, ramdisk, recovery_dtbo, dtb;
  std::uint32_t os_version = 0;  ///< packed
  std::string name, cmdline;
};
/// Header versions 1 and 2, pages of 2048.
[[nodiscard]] Bytes boot_v1_v2(const OldBoot& boot);
/// A table image of device trees, version 0.
[[nodiscard]] Bytes dt_table(const std::vector<Bytes>& trees);
/// What a file system of that size looks like from outside: an ext4 superblock, a property file and
/// filler. It cannot be mounted.
[[nodiscard]] Bytes system_image(std::size_t size, const std::string& build_properties,
                                 std::string_view label = "system");

}  // namespace wexlo::demo
