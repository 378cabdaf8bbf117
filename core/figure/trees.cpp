/// The chain of verified boot, and a payload's partitions.

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "figure/strip.hpp"
#include "text/text.hpp"

namespace wexlo::figure {

Scene chain_tree(const std::string& title, const std::vector<ChainLine>& lines,
                 const std::vector<std::string>& verdicts) {
  constexpr double kLine = 34, kIndent = 30, kBoxHeight = 26, kBoxWidth = 230, kState = 150;
  Scene scene;
  double y = heading(scene, title, "what covers what: a phone walks it from the top");
  std::vector<double> last_y;  // of the newest box at each depth: where its children hang
  for (const ChainLine& one : lines) {
    const double x = kLeft + kIndent * one.depth;
    if (one.depth > 0 && one.depth <= last_y.size()) {
      const double trunk = kLeft + kIndent * (one.depth - 1) + 12;
      scene.stroke({.points = {{trunk, last_y[one.depth - 1] + kBoxHeight},
                               {trunk, y + kBoxHeight / 2},
                               {x, y + kBoxHeight / 2}},
                    .ink = Ink::Line,
                    .width = 1});
    }
    scene.box({.x = x, .y = y, .width = kBoxWidth, .height = kBoxHeight, .ink = Ink::Padding});
    // A mark that is not told by its colour alone.
    const std::string mark = one.ink == Ink::Good ? "+" : one.ink == Ink::Bad ? "x" : "-";
    scene.label({.x = x + 12,
                 .y = y + 17.5,
                 .text = mark,
                 .size = 13,
                 .ink = one.ink,
                 .anchor = Anchor::Middle,
                 .bold = true});
    scene.label({.x = x + 24,
                 .y = y + 17.5,
                 .text = fitted(one.name, kBoxWidth - 32, 12, true),
                 .size = 12,
                 .bold = true});
    const double state_x = x + kBoxWidth + 14;
    scene.label({.x = state_x,
                 .y = y + 17.5,
                 .text = fitted(one.state, kState, 12),
                 .size = 12,
                 .ink = one.ink});
    scene.label({.x = state_x + kState + 10,
                 .y = y + 17.5,
                 .text = fitted(one.detail, kRight - state_x - kState - 10, 11),
                 .size = 11,
                 .ink = Ink::Faint});
    last_y.resize(one.depth);
    last_y.push_back(y);
    y += kLine;
  }
  y += 6;
  for (const std::string& verdict : verdicts) {
    scene.label(
        {.x = kLeft, .y = y + 12, .text = fitted(verdict, kRight - kLeft, 12.5), .size = 12.5});
    y += 20;
  }
  scene.height = y + 14;
  return scene;
}

Scene payload_bars(const std::string& title, const std::vector<PayloadBar>& bars) {
  constexpr double kName = 190, kEnd = 720, kLine = 24, kHeight = 16;
  static constexpr Ink kInks[] = {Ink::Kernel, Ink::Ramdisk, Ink::Tree,   Ink::Signature,
                                  Ink::Other,  Ink::Header,  Ink::Padding};
  Scene scene;
  std::uint64_t most = 1, all = 0, stored = 0;
  std::map<std::string, std::uint64_t> by_kind;
  for (const PayloadBar& bar : bars) {
    all += bar.size;
    stored += bar.stored;
    std::uint64_t written = 0;
    for (const auto& [kind, bytes] : bar.kinds) {
      by_kind[kind] += bytes;
      written += bytes;
    }
    // Operations may write more than the image has: what they say is not checked here.
    most = std::max({most, bar.size, written});
  }
  std::vector<std::pair<std::string, std::uint64_t>> order(by_kind.begin(), by_kind.end());
  std::ranges::stable_sort(order, std::greater{}, &std::pair<std::string, std::uint64_t>::second);
  std::map<std::string, Ink> inks;
  for (const auto& [kind, bytes] : order)
    inks[kind] = kind == "ZERO" || kind == "DISCARD"
                     ? Ink::Free
                     : kInks[std::min(inks.size(), std::size(kInks) - 1)];
  double y = heading(scene, title,
                     fmt::format("{} partitions, {} when written, {} in the package", bars.size(),
                                 human_size(all), human_size(stored)));
  double x = kLeft;
  for (const auto& [kind, bytes] : order) {
    const std::string text = fmt::format("{} {}", kind, human_size(bytes));
    const double width = 24 + text_width(text, 11.5) + 18;
    if (x + width > kRight) {
      x = kLeft;
      y += kRow;
    }
    scene.box({.x = x,
               .y = y + 2,
               .width = 16,
               .height = 12,
               .ink = inks[kind],
               .hatch = hatch_of(inks[kind])});
    scene.label({.x = x + 22, .y = y + 12, .text = text, .size = 11.5});
    x += width;
  }
  y += kRow + 14;
  for (const PayloadBar& bar : bars) {
    scene.label({.x = kName - 10,
                 .y = y + 12.5,
                 .text = fitted(bar.name, kName - kLeft - 12, 12),
                 .size = 12,
                 .anchor = Anchor::End});
    double at = kName;
    const double scale = (kEnd - kName) / static_cast<double>(most);
    for (const auto& [kind, ink] : order) {
      const auto one =
          std::ranges::find(bar.kinds, kind, &std::pair<std::string, std::uint64_t>::first);
      if (one == bar.kinds.end()) continue;
      const double width = static_cast<double>(one->second) * scale;
      scene.box({.x = at,
                 .y = y,
                 .width = std::max(0.6, width),
                 .height = kHeight,
                 .ink = inks[kind],
                 .hatch = width > 10 ? hatch_of(inks[kind]) : Hatch::None});
      at += width;
    }
    scene.label({.x = std::max(at, kName) + 8,
                 .y = y + 12.5,
                 .text = fmt::format("{}, {} stored", human_size(bar.size), human_size(bar.stored)),
                 .size = 11,
                 .ink = Ink::Faint});
    y += kLine;
  }
  scene.height = y + 16;
  return scene;
}

}  // namespace wexlo::figure
