/// Scenes as SVG with real text, so that it can be searched and read aloud.

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "figure/hatch.hpp"
#include "text/text.hpp"

namespace wexlo::figure {
namespace {

/// At most two digits behind the point, none that say nothing.
std::string number(double value) {
  std::string out = fmt::format("{:.2f}", value);
  while (out.ends_with('0'))
    out.pop_back();
  if (out.ends_with('.')) out.pop_back();
  return out == "-0" ? "0" : out;
}

bool is_dark(Colour one) {
  return 0.299 * one.red + 0.587 * one.green + 0.114 * one.blue < 0.5;
}

/// What text on a box of that colour has.
std::string_view standing_out(Colour box) {
  return is_dark(box) ? "#ffffff" : "#10151b";
}

std::string style() {
  std::string out = "<style>";
  std::string dark_rules;
  for (int i = 0; i <= static_cast<int>(Ink::Bad); ++i) {
    const Ink ink = static_cast<Ink>(i);
    dark_rules += fmt::format(".wf-{0}{{fill:{1}}}.ws-{0}{{stroke:{1}}}.wo-{0}{{fill:{2}}}",
                              ink_name(ink), hex_colour(dark(ink)), standing_out(dark(ink)));
  }
  out += "@media (prefers-color-scheme:dark){" + dark_rules + "}";
  return out + "</style>";
}

class SvgWriter {
 public:
  std::string write(const Scene& scene) {
    out_ = fmt::format(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {} {}\" role=\"img\" "
        "font-family=\"'DejaVu "
        "Sans',Verdana,sans-serif\">\n<title>{}</title>\n<desc>{}</desc>\n{}\n",
        number(scene.width), number(scene.height), markup_text(scene.title),
        markup_text(scene.about), style());
    for (const auto& shape : scene.shapes)
      std::visit([this](const auto& one) { put(one); }, shape);
    return out_ + "</svg>\n";
  }

 private:
  static std::string fill(Ink ink) {
    return fmt::format("class=\"wf-{}\" fill=\"{}\"", ink_name(ink), hex_colour(light(ink)));
  }
  static std::string edge(Ink ink, double width) {
    return fmt::format("class=\"ws-{}\" stroke=\"{}\" stroke-width=\"{}\" fill=\"none\"",
                       ink_name(ink), hex_colour(light(ink)), number(width));
  }

  void put(const Box& one) {
    const std::string place =
        fmt::format("x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\"", number(one.x), number(one.y),
                    number(one.width), number(one.height));
    out_ += fmt::format("<rect {} {}/>\n", place, one.filled ? fill(one.ink) : edge(one.ink, 1));
    if (one.hatch == Hatch::None) return;
    const bool free = one.ink == Ink::Free;
    std::string path;
    for (const Segment& line : hatch_lines(one))
      path += fmt::format("M{} {}L{} {}", number(line.x1), number(line.y1), number(line.x2),
                          number(line.y2));
    if (!path.empty())
      out_ += free ? fmt::format("<path {} d=\"{}\"/>\n", edge(Ink::Line, 0.7), path)
                   : fmt::format(
                         "<path stroke=\"#ffffff\" stroke-opacity=\"0.55\" "
                         "stroke-width=\"1\" fill=\"none\" d=\"{}\"/>\n",
                         path);
    if (free) out_ += fmt::format("<rect {} {}/>\n", place, edge(Ink::Line, 1));
  }

  void put(const Stroke& one) {
    std::string points;
    for (const auto& [x, y] : one.points)
      points += fmt::format("{}{},{}", points.empty() ? "" : " ", number(x), number(y));
    out_ += fmt::format("<polyline {}{} points=\"{}\"/>\n", edge(one.ink, one.width),
                        one.dashed ? " stroke-dasharray=\"4 3\"" : "", points);
  }

  void put(const Label& one) {
    if (one.text.empty()) return;
    // Text on a coloured box: black or white, whichever stands out, in both settings.
    const std::string colour = !one.on_ink
                                   ? fill(one.ink)
                                   : fmt::format("class=\"wo-{}\" fill=\"{}\"", ink_name(one.ink),
                                                 standing_out(light(one.ink)));
    out_ += fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"{}\"{}{} {}>{}</text>\n",
                        number(one.x), number(one.y), number(one.size),
                        one.anchor == Anchor::Middle ? " text-anchor=\"middle\""
                        : one.anchor == Anchor::End  ? " text-anchor=\"end\""
                                                     : "",
                        one.bold ? " font-weight=\"bold\"" : "", colour, markup_text(one.text));
  }

  std::string out_;
};

}  // namespace

bool dark_enough(Ink ink) {
  return is_dark(light(ink));
}

std::vector<Segment> hatch_lines(const Box& box) {
  std::vector<Segment> out;
  constexpr double kGap = 7;
  const double right = box.x + box.width, bottom = box.y + box.height;
  const auto diagonal = [&](bool up) {
    // Lines x + y = c (up) or x - y = c, cut to the box; c in steps of the whole page, so that
    // boxes side by side do not show a seam.
    const double low = up ? box.x + box.y : box.x - bottom;
    const double high = up ? right + bottom : right - box.y;
    for (double c = std::ceil(low / kGap) * kGap; c < high; c += kGap) {
      const double x1 = std::max(box.x, up ? c - bottom : c + box.y);
      const double x2 = std::min(right, up ? c - box.y : c + bottom);
      if (x2 - x1 > 0.5) out.push_back({x1, up ? c - x1 : x1 - c, x2, up ? c - x2 : x2 - c});
    }
  };
  if (box.hatch == Hatch::Up || box.hatch == Hatch::Cross) diagonal(true);
  if (box.hatch == Hatch::Down || box.hatch == Hatch::Cross) diagonal(false);
  if (box.hatch == Hatch::Dots)
    for (double y = box.y + kGap / 2; y < bottom; y += kGap)
      for (double x = std::ceil(box.x / kGap) * kGap; x + 1.5 < right; x += kGap)
        out.push_back({x, y, x + 1.5, y});
  return out;
}

std::string to_svg(const Scene& scene) {
  return SvgWriter().write(scene);
}

}  // namespace wexlo::figure
