#include "paint.hpp"

#include <algorithm>

namespace wexlo::cli {
namespace {

constexpr char kEscape = '\033';

}  // namespace

std::size_t width(std::string_view text) {
  std::size_t columns = 0;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == kEscape)
      i = std::min(text.find('m', i), text.size() - 1);  // a colour, which takes no room
    else
      columns += (static_cast<unsigned char>(text[i]) & 0xc0) != 0x80 ? 1 : 0;
  }
  return columns;
}

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
