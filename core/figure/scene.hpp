#pragma once
/// Drawings as plain data: boxes, lines and texts. Made by the figures of this folder, written as
/// SVG, PNG or PDF.

#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo::figure {

/// What something is, not how it looks: the palettes say that. They keep apart for colour-blind
/// eyes, and in grey by lightness; hatches do the rest.
enum class Ink {
  Text,
  Faint,
  Line,
  Header,
  Kernel,
  Ramdisk,
  Tree,
  Signature,
  Other,
  Padding,
  Free,
  Changed,
  Good,
  Bad
};

enum class Hatch { None, Up, Down, Cross, Dots };

/// Units: pixels of a page 1000 wide; y grows downwards.
struct Box {
  double x = 0, y = 0, width = 0, height = 0;
  Ink ink = Ink::Other;
  Hatch hatch = Hatch::None;
  bool filled = true;  ///< false: its edge alone
};

struct Stroke {
  std::vector<std::pair<double, double>> points;
  Ink ink = Ink::Line;
  double width = 1;
  bool dashed = false;
};

enum class Anchor { Start, Middle, End };

struct Label {
  double x = 0, y = 0;  ///< of the base line
  std::string text;     ///< UTF-8
  double size = 12;
  Ink ink = Ink::Text;
  Anchor anchor = Anchor::Start;
  bool bold = false, on_ink = false;  ///< on_ink: stands on a filled box
};

struct Scene {
  double width = 1000, height = 0;
  std::string title, about;  ///< about: for who cannot see it
  std::vector<std::variant<Box, Stroke, Label>> shapes;

  void box(Box one) { shapes.emplace_back(one); }
  void stroke(Stroke one) { shapes.emplace_back(std::move(one)); }
  void label(Label one) { shapes.emplace_back(std::move(one)); }
};

/// Room that a text takes at most: of a table, so that a drawing does not depend on the fonts of
/// the machine it is made on. Who writes it squeezes what is wider.
[[nodiscard]] double text_width(std::string_view text, double size, bool bold = false);
/// The text, cut with an ellipsis where it is wider than `room`.
[[nodiscard]] std::string fitted(std::string_view text, double room, double size,
                                 bool bold = false);

/// The usual hatch of an ink.
[[nodiscard]] Hatch hatch_of(Ink ink);

/// The same scene gives the same bytes. Colours follow the reader's light or dark setting.
[[nodiscard]] std::string to_svg(const Scene& scene);
/// @param scale  pixels for one unit. Errors: LimitExceeded (too large to be drawn), Io.
[[nodiscard]] Result<Bytes> to_png(const Scene& scene, double scale = 2);
/// One page of the scene's own size.
[[nodiscard]] Result<Bytes> to_pdf(const Scene& scene);

struct Colour {
  double red = 0, green = 0, blue = 0;  ///< 0 to 1
};
[[nodiscard]] Colour light(Ink ink);
[[nodiscard]] Colour dark(Ink ink);
[[nodiscard]] std::string hex_colour(Colour colour);  ///< "#rrggbb"
[[nodiscard]] std::string_view ink_name(Ink ink);

}  // namespace wexlo::figure
