#pragma once
/// What the figures have in common: bars to scale, numbered rows.

#include "figure/figures.hpp"

namespace wexlo::figure {

inline constexpr double kLeft = 40, kRight = 960, kRow = 20, kBar = 40;

/// The page's heading; gives the y below it.
double heading(Scene& scene, const std::string& title, const std::string& about);

/// One bar to scale, regions outlined by a thin gap; names inside where they fit.
void scaled_bar(Scene& scene, double y, double height, std::uint64_t total,
                const std::vector<Region>& regions, std::uint64_t scale_total);

/// Below a scaled bar: the same regions, each as wide as its number needs, and lines that join the
/// two. Gives the y below it.
double numbered_bar(Scene& scene, double y, const std::vector<Region>& regions,
                    std::uint64_t scale_total);

/// A row for each region: number, swatch, name, place, size, detail. Gives the y below.
/// @param placed  false: where a region begins says nothing, and is left out
double region_rows(Scene& scene, double y, const std::vector<Region>& regions, bool placed = true);

/// At most so many regions are told one by one.
inline constexpr std::size_t kMostRows = 48;

}  // namespace wexlo::figure
