#include "paint.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <ostream>
#include <random>

#include "text/fill.hpp"
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

namespace {

/// Where a line of at most `columns` columns that begins `text` ends, and where the next begins.
/// `text` has no marks. @param least  no break before this byte: a name keeps its value beside it
struct Break {
  std::size_t end, next;
};
Break break_of(std::string_view text, std::size_t columns, std::size_t least) {
  std::size_t at = 0, seen = 0, blank = 0, behind = 0;
  const auto continues = [&](std::size_t i) {
    return i < text.size() && (static_cast<unsigned char>(text[i]) & 0xc0) == 0x80;
  };
  while (at < text.size() && seen < columns) {
    ++at;
    while (continues(at))
      ++at;
    ++seen;
    if (at <= least) continue;
    if (at < text.size() && text[at] == ' ') blank = at;
    // Long names are parted where their words end.
    if (at < text.size() &&
        std::string_view("/:,;=|_").find(text[at - 1]) != std::string_view::npos)
      behind = at;
  }
  if (at >= text.size()) return {text.size(), text.size()};
  if (blank > 0) return {blank, std::min(text.find_first_not_of(' ', blank), text.size())};
  return behind > columns / 3 ? Break{behind, behind} : Break{at, at};
}

/// A text in lines of at most `first` and then `columns` columns; a colour goes on over the lines.
std::vector<std::string> broken(std::string_view text, std::size_t first, std::size_t columns,
                                std::size_t least = 0) {
  std::string plain;
  std::vector<std::pair<std::size_t, std::string_view>> marks;  // each before this byte of `plain`
  walk(
      text, [&](std::string_view one) { marks.emplace_back(plain.size(), one); },
      [&](std::string_view one) { plain += one; });
  std::vector<std::string> out;
  std::string_view open;  // the colour at the end of a line
  const std::string reset = mark() + "0m";
  std::size_t at = 0, next_mark = 0;
  do {
    const std::string_view rest = std::string_view(plain).substr(at);
    const Break one = out.empty() ? break_of(rest, first, least) : break_of(rest, columns, 0);
    std::string line(open);
    for (std::size_t i = at; i <= at + one.end; ++i) {
      // A mark behind the last byte belongs to the next line, but to this one at the very end.
      const bool here = i < at + one.end || at + one.end == plain.size();
      while (here && next_mark < marks.size() && marks[next_mark].first == i) {
        line += marks[next_mark].second;
        open = marks[next_mark].second == reset ? std::string_view() : marks[next_mark].second;
        ++next_mark;
      }
      if (i < at + one.end) line += plain[i];
    }
    if (!open.empty() && at + one.end < plain.size()) line += reset;
    out.push_back(std::move(line));
    at += one.next;
  } while (at < plain.size());
  return out;
}

/// Column in which a line's text goes on where it is folded: below the value of "  name   value",
/// else a little in.
std::size_t hanging(std::string_view line) {
  constexpr std::size_t kMostName = 34, kIn = 2, kValue = 10;
  const std::size_t start = std::min(line.find_first_not_of(' '), line.size());
  // A line without a name goes on below itself.
  std::size_t out = start < kValue ? start + kIn : start;
  for (std::size_t at = line.find("  ", start); at != line.npos && at < kMostName;
       at = line.find("  ", at)) {
    at = line.find_first_not_of(' ', at);
    if (at == line.npos || at > kMostName) break;
    out = at;
  }
  return out;
}

/// The start of a text, and a mark that it goes on.
std::string cut(std::string_view text, std::size_t columns) {
  const std::string start = broken(text, columns - 1, columns - 1).front();
  return start.ends_with("…") ? start : start + "…";
}

std::string plain_of(std::string_view text) {
  std::string out;
  walk(
      text, [](std::string_view) {}, [&](std::string_view one) { out += one; });
  return out;
}

}  // namespace

std::string fold(std::string_view text, std::size_t columns) {
  constexpr std::size_t kLeast = 20;
  if (columns == 0) return std::string(text);
  std::string out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    const std::string_view line = text.substr(0, end);
    if (width(line) <= columns) {
      out += line;
    } else {
      const std::string plain = plain_of(line);
      const std::size_t in = columns_of(std::string_view(plain).substr(0, hanging(plain)));
      const std::size_t indent = in + kLeast > columns ? 2 : in;
      const auto lines = broken(line, columns, columns - indent, indent == in ? hanging(plain) : 0);
      for (std::size_t i = 0; i < lines.size(); ++i)
        out += (i == 0 ? "" : "\n" + std::string(indent, ' ')) + lines[i];
    }
    if (end < text.size()) out += '\n';
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return out;
}

void Table::row(std::vector<std::string> cells, std::string lead) {
  for (std::string& cell : cells) {
    std::string clean;
    walk(
        cell, [&](std::string_view one) { clean += one; },
        [&](std::string_view one) { clean += printable(one); });
    cell = std::move(clean);
  }
  rows_.push_back({std::move(cells), std::move(lead)});
}

std::size_t width(std::string_view text) {
  return columns_of(plain_of(text));
}

std::size_t page_width(const Paint& paint) {
  constexpr std::size_t kUsual = 80, kLeast = 40;
  return paint.columns == 0 ? kUsual : std::clamp<std::size_t>(paint.columns, kLeast, kUsual);
}

std::string Table::title(std::size_t i) const {
  const std::string& heading = headings_[i];
  return heading.starts_with('>') || heading.starts_with('~') ? heading.substr(1) : heading;
}

std::size_t Table::longest_word(std::size_t column) const {
  std::size_t out = width(title(column));
  for (const Row& row : rows_) {
    const std::string plain = plain_of(row.cells[column]);
    for (const std::string_view word : split_words(plain))
      out = std::max(out, columns_of(word));
  }
  return out;
}

/// As wide as what is in them. Where that is too much for the terminal: what may be cut gives way
/// first, then the widest as long as its words stay whole, then the widest; the first column, which
/// has the names, comes last.
std::vector<std::size_t> Table::widths(std::size_t columns, std::size_t indent) const {
  // A word that is longer than this is a path or the like, and may be parted.
  constexpr std::size_t kGap = 2, kLeast = 8, kCut = 9, kLongWord = 24;
  std::vector<std::size_t> out, words;
  std::size_t total = indent;
  for (std::size_t i = 0; i < headings_.size(); ++i) {
    out.push_back(width(title(i)));
    for (const Row& row : rows_)
      out[i] = std::max(out[i], width(row.cells[i]));
    words.push_back(std::min(longest_word(i), kLongWord));
    total += out[i] + (i == 0 ? 0 : kGap);
  }
  const auto shrink = [&](const auto& least) {
    while (total > columns) {
      std::size_t widest = out.size();
      for (std::size_t i = 0; i < out.size(); ++i)
        if (out[i] > std::max(least(i), width(title(i))) &&
            (widest == out.size() || out[i] > out[widest]))
          widest = i;
      if (widest == out.size()) return;
      --out[widest];
      --total;
    }
  };
  if (columns == 0) return out;
  const auto is = [&](std::size_t i, char mark) { return headings_[i].starts_with(mark); };
  shrink([&](std::size_t i) { return is(i, '~') ? kCut : out[i]; });
  shrink([&](std::size_t i) { return is(i, '>') || i == 0 ? out[i] : words[i]; });
  shrink([&](std::size_t i) { return is(i, '>') || i == 0 ? out[i] : kLeast; });
  shrink([&](std::size_t i) { return is(i, '>') ? out[i] : kLeast; });
  return out;
}

std::string Table::text(const Paint& paint, std::string_view indent) const {
  const std::vector<std::size_t> room = widths(paint.columns, indent.size());
  const auto line = [&](const auto& cell) {
    std::string out(indent);
    for (std::size_t i = 0; i < headings_.size(); ++i) {
      const std::string text = cell(i);
      const std::string fill(room[i] - std::min(room[i], width(text)), ' ');
      const bool right = headings_[i].starts_with('>');
      out += right ? fill + text : text + fill;
      if (i + 1 < headings_.size()) out += "  ";
    }
    out.erase(out.find_last_not_of(' ') + 1);
    return out + "\n";
  };
  std::string out;
  if (std::ranges::any_of(headings_, [](const std::string& one) { return !one.empty(); })) {
    std::string head = line([&](std::size_t i) { return title(i); });
    head.pop_back();
    out += paint.faint(head) + "\n";
  }
  for (const Row& row : rows_) {
    std::vector<std::vector<std::string>> cells;
    std::size_t lines = 1;
    for (std::size_t i = 0; i < headings_.size(); ++i) {
      const std::size_t most = std::max<std::size_t>(room[i], 1);
      const bool fits = width(row.cells[i]) <= most;
      if (!fits && headings_[i].starts_with('~'))
        cells.push_back({cut(row.cells[i], most)});
      else
        cells.push_back(fits ? std::vector{row.cells[i]} : broken(row.cells[i], most, most));
      lines = std::max(lines, cells.back().size());
    }
    for (std::size_t at = 0; at < lines; ++at)
      out += line([&](std::size_t i) {
        if (at < cells[i].size()) return cells[i][at];
        return i == 0 ? row.lead : std::string();
      });
  }
  return out;
}

}  // namespace wexlo::cli
