/// Colours, and how wide texts are.

#include <fmt/format.h>

#include <array>
#include <cmath>

#include "figure/scene.hpp"

namespace wexlo::figure {
namespace {

struct Row {
  Ink ink;
  std::string_view name;
  std::uint32_t light, dark;
  Hatch hatch;
};

/// Eight colours that common kinds of colour blindness keep apart; in grey their lightness differs,
/// and neighbours of like lightness have different hatches.
constexpr std::array kRows{
    Row{Ink::Text, "text", 0x1a1d21, 0xe8eaed, Hatch::None},
    Row{Ink::Faint, "faint", 0x5a626c, 0xa5adb8, Hatch::None},
    Row{Ink::Line, "line", 0x8a929c, 0x767e88, Hatch::None},
    Row{Ink::Header, "header", 0x2f3e5c, 0x8fa3cc, Hatch::None},
    Row{Ink::Kernel, "kernel", 0x0072b2, 0x4aa8e0, Hatch::None},
    Row{Ink::Ramdisk, "ramdisk", 0xe69f00, 0xf0b429, Hatch::None},
    Row{Ink::Tree, "tree", 0x009e73, 0x2fc498, Hatch::Up},
    Row{Ink::Signature, "signature", 0xcc79a7, 0xe09ac2, Hatch::Down},
    Row{Ink::Other, "other", 0x56b4e9, 0x86cbf2, Hatch::Dots},
    Row{Ink::Padding, "padding", 0xdfe3e8, 0x3a4149, Hatch::None},
    Row{Ink::Free, "free", 0xffffff, 0x14181d, Hatch::Up},
    Row{Ink::Changed, "changed", 0xd55e00, 0xff8a3d, Hatch::Cross},
    Row{Ink::Good, "good", 0x00664a, 0x3fd0a4, Hatch::None},
    Row{Ink::Bad, "bad", 0xa32a00, 0xff8f66, Hatch::None},
};

const Row& row_of(Ink ink) {
  return kRows[static_cast<std::size_t>(ink)];
}

Colour colour(std::uint32_t rgb) {
  const auto part = [&](unsigned shift) { return static_cast<double>(rgb >> shift & 255) / 255; };
  return {part(16), part(8), part(0)};
}

/// Of a usual sans-serif face, rather too wide than too narrow; parts of the size.
double width_of(char32_t c) {
  if (c >= 0x2e80) return 1.05;
  if (c >= 0x80) return 0.7;
  constexpr std::string_view kNarrow = "ijl.,:;'|!()[] ", kWide = "mwMW@%";
  const char one = static_cast<char>(c);
  if (kNarrow.find(one) != kNarrow.npos) return 0.40;
  if (one == 'f' || one == 't' || one == 'r' || one == '/' || one == '-' || one == '_') return 0.52;
  if (kWide.find(one) != kWide.npos) return 1.03;
  if (one >= 'A' && one <= 'Z') return 0.76;
  return 0.645;
}

}  // namespace

Colour light(Ink ink) {
  return colour(row_of(ink).light);
}
Colour dark(Ink ink) {
  return colour(row_of(ink).dark);
}
Hatch hatch_of(Ink ink) {
  return row_of(ink).hatch;
}
std::string_view ink_name(Ink ink) {
  return row_of(ink).name;
}

std::string hex_colour(Colour one) {
  const auto part = [](double value) { return static_cast<int>(std::lround(value * 255)); };
  return fmt::format("#{:02x}{:02x}{:02x}", part(one.red), part(one.green), part(one.blue));
}

double text_width(std::string_view text, double size, bool bold) {
  double out = 0;
  for (std::size_t i = 0; i < text.size();) {
    const auto byte = static_cast<unsigned char>(text[i]);
    const std::size_t length = byte < 0x80 ? 1 : byte < 0xe0 ? 2 : byte < 0xf0 ? 3 : 4;
    out += width_of(length == 1                  ? byte
                    : length == 2                ? 0x80
                    : length == 3 && byte < 0xe3 ? 0x2000
                                                 : 0x2e80);
    i += length;
  }
  return out * size * (bold ? 1.1 : 1);
}

std::string fitted(std::string_view text, double room, double size, bool bold) {
  if (text_width(text, size, bold) <= room) return std::string(text);
  std::string out(text);
  while (!out.empty()) {
    // A whole character goes, whatever bytes it has.
    while (out.size() > 1 && (static_cast<unsigned char>(out.back()) & 0xc0) == 0x80)
      out.pop_back();
    out.pop_back();
    if (text_width(out + "…", size, bold) <= room) return out + "…";
  }
  return {};
}

}  // namespace wexlo::figure
