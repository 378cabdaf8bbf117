#include "observed/pasted_line.hpp"

#include <algorithm>
#include <array>

#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kDigits = "0123456789";

bool is_digit(char c) {
  return kDigits.find(c) != kDigits.npos;
}

/// A number, and a mark or blanks that part it from the rest.
std::string_view without_number(std::string_view line) {
  const std::size_t end = line.find_first_not_of(kDigits);
  constexpr std::size_t kLongest = 7;
  if (end == 0 || end == line.npos || end > kLongest) return {};
  std::string_view rest = line.substr(end);
  constexpr std::string_view kMarks = ":|.)\t ", kBar = "\xe2\x94\x82";  // and a drawn bar
  std::size_t marks = 0;
  while (!rest.empty()) {
    if (rest.starts_with(kBar))
      rest.remove_prefix(kBar.size());
    else if (kMarks.find(rest.front()) != kMarks.npos)
      rest.remove_prefix(1);
    else
      break;
    ++marks;
  }
  return marks == 0 ? std::string_view() : rest;
}

struct QuoteMark {
  std::string_view open, close;  ///< close: may stand at the end; empty: nothing does
};
constexpr std::array kQuoteMarks{
    QuoteMark{">", ""},       QuoteMark{"|", ""},    QuoteMark{"\xe2\x94\x82", ""},
    QuoteMark{"* ", ""},      QuoteMark{"- ", ""},   QuoteMark{"\xe2\x80\xa2", ""},
    QuoteMark{"`", "`"},      QuoteMark{"\"", "\""}, QuoteMark{"\xe2\x80\x9c", "\xe2\x80\x9d"},
    QuoteMark{"\xc2\xbb", ""}};

std::string_view without_quote(std::string_view line) {
  for (const QuoteMark& mark : kQuoteMarks) {
    if (!line.starts_with(mark.open)) continue;
    line.remove_prefix(mark.open.size());
    if (!mark.close.empty() && line.ends_with(mark.close)) line.remove_suffix(mark.close.size());
    return trimmed(line);
  }
  return {};
}

/// "[12:03, 30/11/2026] Mina: …", "12:03 Mina: …": a time, then a name with its colon.
std::string_view without_sender(std::string_view line) {
  std::string_view rest = line;
  if (rest.starts_with('[')) {
    const std::size_t close = rest.find(']');
    if (close == rest.npos || rest.substr(0, close).find(':') == rest.npos || close < 4 ||
        !is_digit(rest[1]))
      return {};
    rest = trimmed(rest.substr(close + 1));
  } else {
    const std::size_t blank = rest.find(' ');
    if (blank == rest.npos || !is_digit(rest.front()) ||
        rest.substr(0, blank).find(':') == rest.npos)
      return {};
    rest = trimmed(rest.substr(blank));
  }
  const std::size_t colon = rest.find(": ");
  constexpr std::size_t kLongestName = 40;
  if (colon == rest.npos || colon == 0 || colon > kLongestName) return {};
  return trimmed(rest.substr(colon + 2));
}

}  // namespace

std::string without_colors(std::string_view line) {
  std::string out;
  for (std::size_t i = 0; i < line.size(); ++i) {
    if (line[i] != '\x1b') {
      if (line[i] != '\r') out += line[i];
      continue;
    }
    if (i + 1 < line.size() && line[i + 1] == '[') {
      i += 2;
      while (i < line.size() && (line[i] < '@' || line[i] > '~'))
        ++i;
    }
  }
  return out;
}

std::vector<std::string_view> readings_of(std::string_view line) {
  constexpr std::size_t kMost = 6;
  std::vector<std::string_view> out{trimmed(line)};
  while (out.size() < kMost) {
    const std::string_view last = out.back();
    std::string_view next = without_quote(last);
    if (next.empty()) next = without_number(last);
    if (next.empty()) next = without_sender(last);
    if (next.empty()) break;
    out.push_back(next);
  }
  return out;
}

std::string_view typed_command(std::string_view line) {
  for (const std::string_view prompt : {"$ ", "# ", "> "}) {
    const std::size_t at = line.find(prompt);
    if (at == line.npos) continue;
    // What stands in front of a prompt is a place or a name, without blanks but one.
    const std::string_view front = line.substr(0, at);
    if (std::ranges::count(front, ' ') > 1 || front.find('=') != front.npos ||
        front.find('[') != front.npos)
      continue;
    // A quote mark alone is no prompt.
    if (prompt == "> " && front.find(':') == front.npos) continue;
    return trimmed(line.substr(at + prompt.size()));
  }
  return {};
}

}  // namespace wexlo
