#pragma once
/// An image read as deep as it goes, once, for those who tell, judge or compare it.

#include <map>
#include <optional>

#include "firmware/formats.hpp"
#include "image/fragments.hpp"
#include "image/kernel.hpp"
#include "ramdisk/permissive.hpp"
#include "ramdisk/ramdisk.hpp"

namespace wexlo {

/// The device trees of one section.
struct ReadTrees {
  std::string section;
  dt::Form form = dt::Form::None;
  std::uint64_t offset = 0;  ///< bytes from the file's start to where the blobs' offsets count from
  std::vector<dt::DtBlob> blobs;
};

struct ImageReading {
  std::vector<std::string> sha256;  ///< of each section, lower-case hex; empty for empty ones
  std::vector<ReadRamdisk> ramdisks;
  std::optional<kernel::Kernel> kernel;
  std::vector<ReadTrees> trees;

  /// The first program (/init), in the last ramdisk that has one.
  [[nodiscard]] std::optional<Blob> find(std::string_view place) const;
};

/// Words that make SELinux permissive, wherever a start reads them: command line, bootconfig,
/// property files, device trees.
[[nodiscard]] std::vector<PermissiveWord> permissive_in(const Image& image,
                                                        const ImageReading& reading);

/// The ramdisks alone. Precondition, here and below: it has an image. Errors: Interrupted.
[[nodiscard]] Result<ImageReading> read_ramdisks(const LoadedImage& image, const Context& context);

enum class Digests { Counted, Left };
/// Digests, ramdisks and kernel in parallel. What does not read is told in its place.
/// Errors: Interrupted.
[[nodiscard]] Result<ImageReading> read_deep(const LoadedImage& image, const Context& context,
                                             Digests digests = Digests::Counted);

}  // namespace wexlo
