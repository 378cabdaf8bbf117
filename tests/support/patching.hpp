#pragma once
/// What the tests of patches share.

#include "firmware/formats.hpp"
#include "image/fragments.hpp"
#include "ramdisk/ramdisk.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"

namespace wexlo::test {

inline LoadedImage load(const std::string& bytes) {
  auto image = load_image(blob(bytes), "test.img");
  REQUIRE_MESSAGE(image, (image ? "" : describe(image.error())));
  return std::move(*image);
}

/// The image's first ramdisk.
inline Ramdisk ramdisk_of(View bytes) {
  const auto image = load(text(bytes));
  return *parse_ramdisk(boot::ramdisk_parts(*image.image).front().bytes);
}

/// What stands at a place.
inline std::string at(const Ramdisk& ramdisk, const std::string& place) {
  const auto found = find_entry(ramdisk, place);
  return found ? text(content_of(ramdisk, *found).view()) : "(none)";
}

/// A program of a processor, as far as its header goes.
inline std::string elf(const std::string& processor, const std::string& rest) {
  const int machine = processor == "arm64"    ? 183
                      : processor == "arm"    ? 40
                      : processor == "x86_64" ? 62
                      : processor == "x86"    ? 3
                                              : 243;
  std::string head(
      "\x7f"
      "ELF\x02\x01\x01",
      7);
  head.resize(18);
  head += static_cast<char>(machine);
  head.resize(64);
  return head + rest;
}

}  // namespace wexlo::test
