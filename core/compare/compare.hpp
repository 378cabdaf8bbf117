#pragma once
/// What differs between two images, parts folders, folders of images or firmwares, and what that
/// means.

#include <string>
#include <vector>

#include "compare/difference.hpp"
#include "judge/reading.hpp"

namespace wexlo {

/// A stretch of bytes that differ, equal gaps shorter than 4 KiB counted in.
struct DifferentRange {
  std::uint64_t offset = 0, size = 0;
  std::string region;  ///< of the first image: "header", "kernel", "tail", …
};

struct ImageComparison {
  std::string partition;  ///< empty when two single images were compared
  std::uint64_t size_a = 0, size_b = 0;
  std::vector<Difference> differences;
  std::vector<DifferentRange> ranges;
  std::vector<std::string> meaning;  ///< sentences for people
};

struct Comparison {
  bool same = true;  ///< byte for byte
  std::string kind_a, kind_b;
  std::vector<ImageComparison> images;
};

/// Errors: those of reading either; Unsupported, when the two have nothing that can be compared.
[[nodiscard]] Result<Comparison> compare(const std::string& a, const std::string& b,
                                         const Context& context);

/// The part of an image that a byte lies in: "header", "kernel", "padding of ramdisk", "tail".
[[nodiscard]] std::string region_at(const LoadedImage& image, std::uint64_t offset);

/// Two images in memory. Errors: Interrupted.
[[nodiscard]] Result<ImageComparison> compare_images(const LoadedImage& a, const LoadedImage& b,
                                                     const Context& context);

}  // namespace wexlo
