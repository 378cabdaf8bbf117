#include "paint.hpp"

#include <algorithm>

namespace wexlo::cli {
namespace {

/// Columns on the screen: UTF-8 continuation bytes take none.
std::size_t width(std::string_view text) {
  return static_cast<std::size_t>(std::ranges::count_if(
      text, [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

}  // namespace

std::string Table::text(const Paint& paint, std::string_view indent) const {
  const auto title = [&](std::size_t i) {
    const std::string& heading = headings_[i];
    return heading.starts_with('>') ? heading.substr(1) : heading;
  };
  std::vector<std::size_t> widths;
  for (std::size_t i = 0; i < headings_.size(); ++i) {
    widths.push_back(width(title(i)));
    for (const auto& row : rows_)
      widths[i] = std::max(widths[i], width(row[i]));
  }
  const auto line = [&](const auto& cell) {
    std::string out(indent);
    for (std::size_t i = 0; i < headings_.size(); ++i) {
      const std::string text = cell(i);
      const std::string fill(widths[i] - width(text), ' ');
      const bool right = headings_[i].starts_with('>');
      out += right ? fill + text : text + fill;
      if (i + 1 < headings_.size()) out += "  ";
    }
    out.erase(out.find_last_not_of(' ') + 1);
    return out;
  };
  std::string out = paint.faint(line(title)) + "\n";
  for (const auto& row : rows_)
    out += line([&](std::size_t i) { return row[i]; }) + "\n";
  return out;
}

}  // namespace wexlo::cli
