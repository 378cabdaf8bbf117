#include "paint.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <ostream>
#include <random>

#include "text/text.hpp"

namespace wexlo::cli {
namespace {

constexpr char kEscape = '\033';

/// Begins a mark of colour: new in each run, so that a file cannot know it.
const std::string& mark() {
  static const std::string text =
      fmt::format("{}{:08x}{:08x}-", kEscape, std::random_device()(), std::random_device()());
  return text;
}

/// Length of the mark at the start of `text`; 0: there is none.
std::size_t mark_length(std::string_view text) {
  if (!text.starts_with(mark())) return 0;
  const std::size_t end = text.find('m');
  return end == text.npos ? 0 : end + 1;
}

/// Calls `mark(code)` for marks of colour and `plain(text)` for what stands between.
template <class Mark, class Plain>
void walk(std::string_view text, Mark on_mark, Plain on_plain) {
  while (!text.empty()) {
    if (const std::size_t length = mark_length(text)) {
      on_mark(text.substr(0, length));
      text.remove_prefix(length);
      continue;
    }
    const std::size_t end = std::min(text.find(mark(), 1), text.size());
    on_plain(text.substr(0, end));
    text.remove_prefix(end);
  }
}

}  // namespace

std::string Paint::wrap(std::string_view code, std::string_view text) const {
  if (!on) return std::string(text);
  return fmt::format("{}{}m{}{}0m", mark(), code, text, mark());
}

void print(std::ostream& out, std::string_view text) {
  walk(
      text, [&](std::string_view one) { out << kEscape << '[' << one.substr(mark().size()); },
      [&](std::string_view one) { out << printable_lines(one); });
}

void Table::row(std::vector<std::string> cells) {
  for (std::string& cell : cells) {
    std::string clean;
    walk(
        cell, [&](std::string_view one) { clean += one; },
        [&](std::string_view one) { clean += printable(one); });
    cell = std::move(clean);
  }
  rows_.push_back(std::move(cells));
}

std::size_t width(std::string_view text) {
  std::size_t columns = 0;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (const std::size_t length = mark_length(text.substr(i)))
      i += length - 1;  // a colour, which takes no room
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
