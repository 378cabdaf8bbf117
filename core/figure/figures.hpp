#pragma once
/// The figures: from plain data to scenes. Everything is to scale in the first bar of a figure; a
/// second one below gives each part the room that its number needs. Labels stand in rows of their
/// own, so that none lies over another.

#include <optional>

#include "figure/scene.hpp"

namespace wexlo::figure {

/// A stretch of an image or a device.
struct Region {
  std::string name, detail;
  std::uint64_t offset = 0, size = 0;  ///< bytes
  Ink ink = Ink::Other;
};

/// @param total  bytes of the whole
[[nodiscard]] Scene byte_map(const std::string& title, std::uint64_t total,
                             const std::vector<Region>& regions);

struct Side {
  std::string name;
  std::uint64_t total = 0;
  std::vector<Region> regions;
};
/// Two images, one over the other at the same scale, and the places that differ.
[[nodiscard]] Scene change_map(const std::string& title, const Side& before, const Side& after,
                               const std::vector<Region>& changes);

/// super: logical partitions and what is free. @param after  empty: as it is, nothing is planned
[[nodiscard]] Scene super_map(const std::string& title, const Side& before,
                              const std::optional<Side>& after);

/// One line of the tree of what covers what.
struct ChainLine {
  unsigned depth = 0;
  std::string name, detail, state;
  Ink ink = Ink::Text;  ///< Good, Bad, Faint
};
[[nodiscard]] Scene chain_tree(const std::string& title, const std::vector<ChainLine>& lines,
                               const std::vector<std::string>& verdicts);

/// A payload's partition: bytes of it that operations of one kind write.
struct PayloadBar {
  std::string name;
  std::uint64_t size = 0, stored = 0;
  std::vector<std::pair<std::string, std::uint64_t>> kinds;
};
[[nodiscard]] Scene payload_bars(const std::string& title, const std::vector<PayloadBar>& bars);

/// Fills what no region covers, and what lies behind the last, with regions of `ink`.
[[nodiscard]] std::vector<Region> with_gaps(std::vector<Region> regions, std::uint64_t total,
                                            const std::string& name, Ink ink);

}  // namespace wexlo::figure
