#pragma once
/// A kernel as it stands in a boot image: perhaps wrapped, compressed, with device trees behind it:
/// docs/formats/kernel.md. Nothing here fails: what is not recognised is told as unknown.

#include "codec/codec.hpp"
#include "image/device_tree.hpp"

namespace wexlo::kernel {

struct Kernel {
  std::string form;          ///< "arm64 Image", "ARM zImage", "x86 bzImage", "EFI zboot", "unknown"
  std::string architecture;  ///< "arm64", "arm", "x86", "riscv64"; empty: not known
  /// Of the whole ("gzip", "lz4-legacy", …), or of the kernel that unpacks itself; "none".
  std::string compression = "none";
  std::string wrapping;            ///< "chipset part header KERNEL", "uImage NAME"; empty: none
  std::string banner;              ///< the `Linux version` line; empty: none found
  std::string release;             ///< its third word, e.g. "5.10.157-android13-4"
  std::string config;              ///< text of the embedded configuration; empty: none
  std::uint64_t decoded_size = 0;  ///< bytes, where it is compressed
  std::string trouble;             ///< why it could not be looked into, where that went wrong
  std::uint64_t trees_at = 0;      ///< where the device trees begin, from the section's start
  Blob trees;                      ///< from there to the section's end; empty: none
};

/// @param section  the kernel section's bytes
/// @param limit    what a compressed kernel may decode to
[[nodiscard]] Kernel read(const Blob& section, const DecodeLimit& limit = {.bytes = 256u << 20});

}  // namespace wexlo::kernel
