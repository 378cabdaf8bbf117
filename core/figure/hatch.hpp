#pragma once
/// Hatches as single lines: no pattern of the drawing language is needed, and so no names in it.

#include "figure/scene.hpp"

namespace wexlo::figure {

struct Segment {
  double x1 = 0, y1 = 0, x2 = 0, y2 = 0;
};
[[nodiscard]] std::vector<Segment> hatch_lines(const Box& box);
/// Whether white text stands out on it.
[[nodiscard]] bool dark_enough(Ink ink);

}  // namespace wexlo::figure
