#pragma once
/// The ramdisk that a kernel really sees: which parts a loader joins, in which order.
/// Source: docs/formats/boot.md, "What the loader joins".

#include <string>
#include <vector>

#include "judge/reading.hpp"

namespace wexlo {

struct StartPart {
  std::string partition;    ///< "vendor_boot", "init_boot", "boot"; "init_boot or boot" when only
                            ///< vendor_boot was given
  std::string name;         ///< of the fragment; empty for others
  std::string type;         ///< "platform", …, "generic", "own"
  std::string compression;  ///< empty: not known here
};

/// What a kernel would stumble over.
enum class StartTrouble : std::uint8_t {
  Joint,      ///< what follows what
  Unpacking,  ///< one part by itself
};
struct StartProblem {
  StartTrouble kind = StartTrouble::Joint;
  std::string text;  ///< a sentence without its full stop
};

struct Starts {
  std::vector<StartPart> normal, recovery;  ///< in the order the kernel unpacks them
  std::vector<StartProblem> problems{};
  [[nodiscard]] bool empty() const { return normal.empty() && recovery.empty(); }
};

/// One image of a boot chain.
struct ChainImage {
  std::string partition;
  const Image* image = nullptr;
  const ImageReading* reading = nullptr;
};
/// @param chain  what is here of vendor_boot, init_boot, boot; others are left out
[[nodiscard]] Starts starts_of(const std::vector<ChainImage>& chain);

}  // namespace wexlo
