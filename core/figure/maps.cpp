/// Byte map, change map, super layout.

#include <fmt/format.h>

#include <algorithm>

#include "figure/strip.hpp"
#include "text/text.hpp"

namespace wexlo::figure {
namespace {

std::string size_text(std::uint64_t size) {
  return fmt::format("{} ({} bytes)", human_size(size), size);
}

}  // namespace

Scene byte_map(const std::string& title, std::uint64_t total, const std::vector<Region>& regions) {
  Scene scene;
  double y = heading(scene, title, fmt::format("{}, to scale above", size_text(total)));
  scaled_bar(scene, y, kBar, total, regions, total);
  y = numbered_bar(scene, y + kBar, regions, total);
  scene.height = region_rows(scene, y, regions) + 20;
  return scene;
}

Scene change_map(const std::string& title, const Side& before, const Side& after,
                 const std::vector<Region>& changes) {
  Scene scene;
  std::uint64_t bytes = 0;
  for (const Region& one : changes)
    bytes += one.size;
  double y =
      heading(scene, title,
              changes.empty() ? "the two are the same, byte for byte"
                              : fmt::format("{} of {} differ, in {} place{}", human_size(bytes),
                                            size_text(std::max(before.total, after.total)),
                                            changes.size(), changes.size() == 1 ? "" : "s"));
  const std::uint64_t scale = std::max(before.total, after.total);
  for (const Side* side : {&before, &after}) {
    scene.label({.x = kLeft,
                 .y = y + 10,
                 .text = fitted(side->name, kRight - kLeft, 11.5),
                 .size = 11.5,
                 .ink = Ink::Faint});
    scaled_bar(scene, y + 16, 26, side->total, side->regions, scale);
    y += 54;
  }
  if (changes.empty()) {
    scene.height = y + 10;
    return scene;
  }
  scene.label({.x = kLeft, .y = y + 10, .text = "what differs", .size = 11.5, .ink = Ink::Faint});
  y += 16;
  scene.box({.x = kLeft, .y = y, .width = kRight - kLeft, .height = 20, .ink = Ink::Padding});
  scaled_bar(scene, y, 20, scale, changes, scale);
  const std::vector<Region> shown(
      changes.begin(),
      changes.begin() + static_cast<std::ptrdiff_t>(std::min(changes.size(), std::size_t{34})));
  y = numbered_bar(scene, y + 20, shown, scale);
  scene.height = region_rows(scene, y, changes) + 20;
  return scene;
}

Scene super_map(const std::string& title, const Side& before, const std::optional<Side>& after) {
  Scene scene;
  double y = heading(scene, title,
                     after ? "before the plan, and after it: free room is hatched"
                           : fmt::format("{}: free room is hatched", size_text(before.total)));
  const std::uint64_t scale = std::max(before.total, after ? after->total : 0);
  for (const Side* side : {&before, after ? &*after : nullptr}) {
    if (side == nullptr) continue;
    scene.label({.x = kLeft,
                 .y = y + 12,
                 .text = fitted(side->name, kRight - kLeft, 13, true),
                 .size = 13,
                 .bold = true});
    y += 20;
    scaled_bar(scene, y, kBar, side->total, side->regions, scale);
    y = numbered_bar(scene, y + kBar, side->regions, scale);
    y = region_rows(scene, y, side->regions, false) + 18;
  }
  scene.height = y + 2;
  return scene;
}

}  // namespace wexlo::figure
