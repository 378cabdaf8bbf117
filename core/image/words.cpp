#include "image/words.hpp"

#include <algorithm>

#include "text/text.hpp"

namespace wexlo::words {
namespace {

constexpr std::string_view kBlanks = " \t\r\n";

struct Span {
  std::size_t begin, size;
};

std::vector<Span> spans(std::string_view line) {
  std::vector<Span> out;
  // A quote that nothing closes is a letter: else what is added would vanish in it.
  const bool paired = std::ranges::count(line, '"') % 2 == 0;
  std::size_t at = 0;
  while ((at = line.find_first_not_of(kBlanks, at)) != line.npos) {
    std::size_t end = at;
    bool quoted = false;
    while (end < line.size() && (quoted || kBlanks.find(line[end]) == kBlanks.npos)) {
      if (line[end] == '"' && paired) quoted = !quoted;
      ++end;
    }
    out.push_back({at, end - at});
    at = end;
  }
  return out;
}

std::string_view name_of(std::string_view word) {
  return word.substr(0, std::min(word.find('='), word.size()));
}

bool same_name(std::string_view a, std::string_view b) {
  return std::ranges::equal(
      a, b, [](char x, char y) { return (x == '-' ? '_' : x) == (y == '-' ? '_' : y); });
}

/// Takes a word out, with the blanks before it (or behind it, for the first).
void cut(std::string& line, const Span& span) {
  std::size_t begin = span.begin, end = span.begin + span.size;
  if (begin == 0)
    while (end < line.size() && kBlanks.find(line[end]) != kBlanks.npos)
      ++end;
  else
    while (begin > 0 && kBlanks.find(line[begin - 1]) != kBlanks.npos)
      --begin;
  line.erase(begin, end - begin);
}

/// The entries of a bootconfig: parted by line ends and `;` outside quotes; their text alone.
/// @param quotes  whether they count; they do not where one is never closed
std::vector<Span> entries(std::string_view text, bool quotes = true) {
  std::vector<Span> out;
  std::size_t begin = 0;
  char quote = 0;
  bool comment = false;
  for (std::size_t i = 0; i <= text.size(); ++i) {
    const char c = i < text.size() ? text[i] : '\n';
    if (quote != 0) {
      if (c == quote) quote = 0;
      if (i < text.size()) continue;
    } else if (quotes && !comment && (c == '"' || c == '\'')) {
      quote = c;
      continue;
    }
    if (c == '#') comment = true;
    if (c != '\n' && (c != ';' || comment) && i < text.size()) continue;
    out.push_back({begin, i - begin});
    begin = i + 1;
    if (c == '\n') comment = false;
  }
  return quote != 0 ? entries(text, false) : out;
}

bool sets(std::string_view entry, std::string_view key) {
  const auto equals = entry.find('=');
  std::string_view left = trimmed(entry.substr(0, equals));
  if (left.ends_with('+') || left.ends_with(':')) left = trimmed(left.substr(0, left.size() - 1));
  return left == key && !trimmed(entry).starts_with('#');
}

std::string entry_text(std::string_view key, std::string_view value) {
  const bool plain = value.find_first_of("\n;,#{}\"' ") == value.npos;
  const char quote = value.find('"') == value.npos ? '"' : '\'';
  std::string out(key);
  out += '=';
  if (plain) return out += value;
  (out += quote) += value;
  return out += quote;
}

/// An edit that takes part of an odd number of quotes away changes which of them belong together:
/// it is done again until nothing is left to do, so that done twice it is done once.
template <class Edit>
std::string settled(std::string_view text, Edit edit) {
  std::string out = edit(text);
  for (int again = 0; again < 8; ++again) {
    std::string next = edit(out);
    if (next == out) break;
    out = std::move(next);
  }
  return out;
}

std::string set_once(std::string_view cmdline, std::string_view name, std::string_view value);
std::string remove_once(std::string_view cmdline, std::string_view word);
std::string set_entry_once(std::string_view text, std::string_view key, std::string_view value);
std::string remove_entry_once(std::string_view text, std::string_view key);

}  // namespace

std::string set(std::string_view cmdline, std::string_view name, std::string_view value) {
  return settled(cmdline, [&](std::string_view line) { return set_once(line, name, value); });
}

std::string remove(std::string_view cmdline, std::string_view word) {
  return settled(cmdline, [&](std::string_view line) { return remove_once(line, word); });
}

std::string set_bootconfig(std::string_view text, std::string_view key, std::string_view value) {
  return settled(text, [&](std::string_view one) { return set_entry_once(one, key, value); });
}

std::string remove_bootconfig(std::string_view text, std::string_view key) {
  return settled(text, [&](std::string_view one) { return remove_entry_once(one, key); });
}

std::vector<std::string> split(std::string_view cmdline) {
  std::vector<std::string> out;
  for (const Span& span : spans(cmdline))
    out.emplace_back(cmdline.substr(span.begin, span.size));
  return out;
}

std::string add(std::string_view cmdline, std::string_view word) {
  std::string out(cmdline);
  for (const Span& span : spans(cmdline))
    if (cmdline.substr(span.begin, span.size) == word) return out;
  if (!out.empty() && kBlanks.find(out.back()) == kBlanks.npos) out += ' ';
  return out += word;
}

namespace {

std::string set_once(std::string_view cmdline, std::string_view name, std::string_view value) {
  std::string word(name);
  if (!value.empty()) (word += '=') += value;
  std::string out(cmdline);
  const auto all = spans(cmdline);
  std::vector<Span> mine;
  for (const Span& span : all)
    if (same_name(name_of(cmdline.substr(span.begin, span.size)), name)) mine.push_back(span);
  if (mine.empty()) return add(cmdline, word);
  // Last first, so that the places in front stay right.
  for (std::size_t i = mine.size(); i-- > 1;)
    cut(out, mine[i]);
  return out.replace(mine[0].begin, mine[0].size, word);
}

std::string remove_once(std::string_view cmdline, std::string_view word) {
  std::string out(cmdline);
  const auto all = spans(cmdline);
  for (std::size_t i = all.size(); i-- > 0;) {
    const std::string_view one = cmdline.substr(all[i].begin, all[i].size);
    const bool by_name = word.find('=') == word.npos && same_name(name_of(one), word);
    if (one == word || by_name) cut(out, all[i]);
  }
  return out;
}

std::string set_entry_once(std::string_view text, std::string_view key, std::string_view value) {
  const std::string wanted = entry_text(key, value);
  std::string out(text);
  std::vector<Span> mine;
  for (const Span& span : entries(text))
    if (sets(text.substr(span.begin, span.size), key)) mine.push_back(span);
  if (mine.empty()) {
    if (!out.empty() && out.back() != '\n') out += '\n';
    return out + wanted + "\n";
  }
  for (std::size_t i = mine.size(); i-- > 1;)
    out.erase(mine[i].begin, std::min(mine[i].size + 1, out.size() - mine[i].begin));
  const std::string_view old = text.substr(mine[0].begin, mine[0].size);
  const auto equals = old.find('=');
  const std::string_view bare =
      equals == old.npos ? std::string_view() : trimmed(old.substr(equals + 1));
  if (bare == std::string_view(wanted).substr(key.size() + 1) && mine.size() == 1) return out;
  return out.replace(mine[0].begin, mine[0].size, wanted);
}

std::string remove_entry_once(std::string_view text, std::string_view key) {
  std::string out(text);
  const auto all = entries(text);
  for (std::size_t i = all.size(); i-- > 0;)
    if (sets(text.substr(all[i].begin, all[i].size), key))
      out.erase(all[i].begin, std::min(all[i].size + 1, out.size() - all[i].begin));
  return out;
}

}  // namespace

}  // namespace wexlo::words
