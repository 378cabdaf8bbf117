#include "figure/strip.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>

#include "text/text.hpp"

namespace wexlo::figure {
namespace {

double place(std::uint64_t at, std::uint64_t total) {
  if (total == 0) return kLeft;
  return kLeft + (kRight - kLeft) * static_cast<double>(at) / static_cast<double>(total);
}

/// Widths that add up to the bar: to scale, but none below what its number needs.
std::vector<double> legible_widths(const std::vector<Region>& regions) {
  const double all = kRight - kLeft;
  const double least =
      std::min(26.0, all / static_cast<double>(std::max<std::size_t>(1, regions.size())));
  std::vector<double> out(regions.size(), least);
  double weights = 0;
  const auto weight = [](const Region& one) { return static_cast<double>(one.size); };
  for (const Region& one : regions)
    weights += weight(one);
  const double spare = all - least * static_cast<double>(regions.size());
  for (std::size_t i = 0; i < regions.size(); ++i)
    out[i] += weights > 0 ? spare * weight(regions[i]) / weights
                          : spare / static_cast<double>(regions.size());
  return out;
}

}  // namespace

double heading(Scene& scene, const std::string& title, const std::string& about) {
  scene.title = title;
  scene.about = about;
  scene.label({.x = kLeft,
               .y = 34,
               .text = fitted(title, kRight - kLeft, 17, true),
               .size = 17,
               .bold = true});
  scene.label({.x = kLeft,
               .y = 54,
               .text = fitted(about, kRight - kLeft, 12),
               .size = 12,
               .ink = Ink::Faint});
  return 72;
}

void scaled_bar(Scene& scene, double y, double height, std::uint64_t total,
                const std::vector<Region>& regions, std::uint64_t scale_total) {
  for (const Region& one : regions) {
    const double x = place(one.offset, scale_total);
    const double width = place(one.offset + one.size, scale_total) - x;
    // What is thinner than half a pixel would not be seen at all.
    scene.box({.x = x,
               .y = y,
               .width = std::max(0.6, width - (width > 3 ? 1 : 0)),
               .height = height,
               .ink = one.ink,
               .hatch = width > 10 ? hatch_of(one.ink) : Hatch::None});
    const double room = text_width(one.name, 12, true) + 10;
    const bool hatched = hatch_of(one.ink) != Hatch::None;
    if (one.ink == Ink::Free || room + (hatched ? 4 : 0) > width) continue;
    // Nobody reads letters on lines.
    if (hatched)
      scene.box({.x = x + (width - room) / 2,
                 .y = y + std::max(0.0, height / 2 - 9),
                 .width = room,
                 .height = std::min(18.0, height),
                 .ink = one.ink,
                 .hatch = Hatch::None});
    scene.label({.x = x + width / 2,
                 .y = y + height / 2 + 4,
                 .text = one.name,
                 .size = 12,
                 .ink = one.ink,
                 .anchor = Anchor::Middle,
                 .bold = true,
                 .on_ink = true});
  }
  scene.box({.x = kLeft,
             .y = y,
             .width = place(total, scale_total) - kLeft,
             .height = height,
             .ink = Ink::Line,
             .filled = false});
}

double numbered_bar(Scene& scene, double y, const std::vector<Region>& regions,
                    std::uint64_t scale_total) {
  constexpr double kJoin = 26, kHeight = 22;
  const auto widths = legible_widths(regions);
  double x = kLeft;
  const double below = y + kJoin;
  for (std::size_t i = 0; i < regions.size(); ++i) {
    const double from = place(regions[i].offset, scale_total);
    scene.stroke({.points = {{from, y}, {x, below}}, .ink = Ink::Line, .width = 0.6});
    scene.box({.x = x,
               .y = below,
               .width = widths[i] - 1,
               .height = kHeight,
               .ink = regions[i].ink,
               .hatch = Hatch::None});
    const std::string number = fmt::format("{}", i + 1);
    if (text_width(number, 11) <= widths[i])
      scene.label({.x = x + widths[i] / 2,
                   .y = below + kHeight - 6.5,
                   .text = number,
                   .size = 11,
                   .ink = regions[i].ink == Ink::Free ? Ink::Text : regions[i].ink,
                   .anchor = Anchor::Middle,
                   .on_ink = regions[i].ink != Ink::Free});
    if (regions[i].ink == Ink::Free)
      scene.box({.x = x,
                 .y = below,
                 .width = widths[i] - 1,
                 .height = kHeight,
                 .ink = Ink::Line,
                 .filled = false});
    x += widths[i];
  }
  const std::uint64_t end = regions.empty() ? 0 : regions.back().offset + regions.back().size;
  scene.stroke(
      {.points = {{place(end, scale_total), y}, {kRight, below}}, .ink = Ink::Line, .width = 0.6});
  return below + kHeight + 14;
}

double region_rows(Scene& scene, double y, const std::vector<Region>& regions, bool placed) {
  constexpr double kNumber = kLeft + 22, kSwatch = kLeft + 32, kName = kLeft + 56,
                   kOffset = kLeft + 390, kSize = kLeft + 500, kDetail = kLeft + 520;
  const auto cell = [&](double x, std::string text, Anchor anchor, Ink ink, bool bold = false) {
    scene.label({.x = x,
                 .y = y + 14,
                 .text = std::move(text),
                 .size = 11.5,
                 .ink = ink,
                 .anchor = anchor,
                 .bold = bold});
  };
  cell(kName, "part", Anchor::Start, Ink::Faint);
  if (placed) cell(kOffset, "from byte", Anchor::End, Ink::Faint);
  cell(kSize, "size", Anchor::End, Ink::Faint);
  y += kRow;
  for (std::size_t i = 0; i < std::min(regions.size(), kMostRows); ++i) {
    const Region& one = regions[i];
    cell(kNumber, fmt::format("{}", i + 1), Anchor::End, Ink::Text, true);
    scene.box({.x = kSwatch,
               .y = y + 4,
               .width = 16,
               .height = 12,
               .ink = one.ink,
               .hatch = hatch_of(one.ink)});
    cell(kName, fitted(one.name, kOffset - kName - 90, 11.5), Anchor::Start, Ink::Text);
    if (placed) cell(kOffset, fmt::format("0x{:x}", one.offset), Anchor::End, Ink::Text);
    cell(kSize, human_size(one.size), Anchor::End, Ink::Text);
    cell(kDetail, fitted(one.detail, kRight - kDetail, 11.5), Anchor::Start, Ink::Faint);
    y += kRow;
  }
  if (regions.size() > kMostRows) {
    cell(kName, fmt::format("and {} more", regions.size() - kMostRows), Anchor::Start, Ink::Faint);
    y += kRow;
  }
  return y;
}

std::vector<Region> with_gaps(std::vector<Region> regions, std::uint64_t total,
                              const std::string& name, Ink ink) {
  std::ranges::sort(regions, {}, &Region::offset);
  std::vector<Region> out;
  std::uint64_t at = 0;
  for (Region& one : regions) {
    if (one.size == 0 || one.offset >= total) continue;
    if (one.offset > at)
      out.push_back(
          {.name = name, .detail = "", .offset = at, .size = one.offset - at, .ink = ink});
    // Regions come from files: one that runs over the next or the end is cut.
    const std::uint64_t begin = std::max(at, one.offset);
    const std::uint64_t end = one.size > total - one.offset ? total : one.offset + one.size;
    if (end <= begin) continue;
    one.offset = begin;
    one.size = end - begin;
    at = end;
    out.push_back(std::move(one));
  }
  if (at < total)
    out.push_back({.name = name, .detail = "", .offset = at, .size = total - at, .ink = ink});
  return out;
}

}  // namespace wexlo::figure
