#pragma once
/// What of a build's boot chain matters to whoever patches it again after an update.

#include <map>
#include <string>
#include <vector>

#include "firmware/formats.hpp"
#include "ramdisk/layout.hpp"

namespace wexlo {

struct ImageFacts {
  std::string partition;
  std::string kernel;  ///< its release; empty: none in it
  std::string cmdline;
  std::string init;                           ///< SHA-256 of /init; empty: none
  std::map<std::string, std::string> fstabs;  ///< by place, `tree N /node` for device trees
  std::uint64_t size = 0, left = 0;           ///< bytes; left: in the partition, 0: not known
  bool left_known = false;
  std::optional<unsigned> header_version{};    ///< of a boot header
  RamdiskLayout layout = RamdiskLayout::None;  ///< of its first ramdisk
  bool enforcing = false;                      ///< it ends in the trailer of download-mode phones
};

/// Errors: Interrupted. What does not read is left out.
[[nodiscard]] Result<ImageFacts> image_facts(const LoadedImage& image, const std::string& partition,
                                             const Context& context);

/// One thing that two builds differ in.
struct BuildDifference {
  std::string partition, what;  ///< "kernel", "init", "cmdline", "fstab /…", "room", "partition"
  std::string before, after;
  std::vector<std::string> diff;  ///< of texts
};
[[nodiscard]] std::vector<BuildDifference> differences(const std::vector<ImageFacts>& before,
                                                       const std::vector<ImageFacts>& after);

}  // namespace wexlo
