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
  struct Named {
    std::string name;
    unsigned type = 1;
    std::string bytes;
    std::uint32_t board = 0;  ///< first word of the board id
  };
  std::vector<Named> named;  ///< instead of ramdisk and fragments

  [[nodiscard]] std::string done() const;
};

/// A flattened device tree with a root node alone.
[[nodiscard]] std::string device_tree(const std::string& model, const std::string& compatible,
                                      const std::string& bootargs = "");
/// A device-tree table; blobs may be named by several rows.
struct TableBytes {
  unsigned version = 0;
  std::vector<std::string> blobs;
  struct Row {
    std::size_t blob;
    std::uint32_t id = 0, rev = 0, flags = 0;
  };
  std::vector<Row> rows;  ///< empty: one for each blob
  [[nodiscard]] std::string done() const;
};

/// A raw arm64 kernel with its header, a banner and, where wanted, an embedded configuration.
[[nodiscard]] std::string arm64_kernel(const std::string& release, const std::string& config = "");
/// The 512 bytes that some chipsets want before a part.
[[nodiscard]] std::string chipset_header(const std::string& name, const std::string& part);
/// The sealed 512-byte prefix: a digest and a length.
[[nodiscard]] std::string sealed(const std::string& image);

/// One chipset's header of 2012 to 2015, with a word more before the tags' address.
[[nodiscard]] std::string shifted_boot(const std::string& kernel, const std::string& ramdisk);
/// An ELF32 program whose segments are kernel, ramdisk and more, with zeros between them.
struct ElfBytes {
  std::string kernel, ramdisk, more = "radio data";
  std::size_t gap = 256;
  [[nodiscard]] std::string done() const;
};
/// As much of a zImage as it is known by.
[[nodiscard]] std::string zimage_kernel();

/// A small ramdisk as a phone's first one looks: folders, /init, a property file, an fstab.
[[nodiscard]] std::string first_ramdisk();

}  // namespace wexlo::test
