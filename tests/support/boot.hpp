#pragma once
/// Boot images, put together by hand.

#include "support/bytes.hpp"

namespace wexlo::test {

/// Header versions 0 to 4; which fields are used depends on the version.
struct BootBytes {
  unsigned version = 4;
  std::size_t page = 4096;  ///< versions 0-2
  std::string kernel, ramdisk, second, recovery_dtbo, dtb, signature;
  std::string cmdline = "console=ttyKV0", name = "plumbline";
  std::uint32_t os_version = 0x2000014a;  ///< 16.0.0, 2020-10
  enum class Id { None, Sha1, Sha256 } id = Id::Sha1;

  [[nodiscard]] std::string done() const;
};

/// Version 3 or 4; in version 4 one fragment, or several of the given sizes.
struct VendorBootBytes {
  unsigned version = 4;
  std::size_t page = 4096;
  std::string ramdisk, dtb, bootconfig, cmdline = "console=ttyKV0";
  std::vector<std::size_t> fragments;  ///< empty: one, all of the ramdisk

  [[nodiscard]] std::string done() const;
};

/// A small ramdisk as a phone's first one looks: folders, /init, a property file, an fstab.
[[nodiscard]] std::string first_ramdisk();

}  // namespace wexlo::test
