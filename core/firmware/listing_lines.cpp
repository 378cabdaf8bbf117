#include "firmware/listing_lines.hpp"

#include <algorithm>
#include <array>
#include <cctype>
#include <set>

#include "archive/bundle.hpp"
#include "base/contains.hpp"
#include "firmware/listing_words.hpp"
#include "text/text.hpp"

namespace wexlo::listing {
namespace {

constexpr std::array<std::string_view, 4> kVerbs{"flash", "flash:raw", "write", "program"};
/// Words that stand before a file's name in plain text.
constexpr std::array<std::string_view, 25> kNoNames{
    "the", "a",    "an",   "this", "that",  "your", "my",   "our",   "its",
    "new", "all",  "each", "both", "stock", "old",  "file", "image", "images",
    "img", "with", "to",   "from", "and",   "or",   "of"};
constexpr std::array<std::string_view, 5> kTellers{"echo", "@echo", "printf", "print", "ui_print"};

/// Blanks part words; those between quotes do not.
std::vector<std::string> shell_words(std::string_view line) {
  std::vector<std::string> out;
  std::string word;
  char quote = 0;
  const auto done = [&] {
    if (!word.empty()) out.push_back(std::exchange(word, {}));
  };
  for (const char c : line) {
    if (quote != 0) {
      if (c == quote)
        quote = 0;
      else
        word += c;
    } else if (c == '"' || c == '\'') {
      quote = c;
    } else if (std::isspace(static_cast<unsigned char>(c)) != 0) {
      done();
    } else if (c == ';') {
      done();
      out.emplace_back(";");
    } else if (c != '`' && c != '(' && c != ')') {
      word += c;
    }
  }
  done();
  return out;
}

bool ends_command(std::string_view word) {
  return word == ";" || word == "&&" || word == "||" || word == "|" || word == "&";
}

bool is_option(std::string_view word) {
  return word.starts_with('-') || word.starts_with("%*") || word.starts_with("$*") ||
         word.starts_with("$@") || word.starts_with("${");
}

/// Whether the words before `verb` are a program and its options; of a script that is known.
bool is_called(const std::vector<std::string>& words, std::size_t verb) {
  if (verb == 0) return true;
  for (std::size_t at = verb; at-- > 0;) {
    const std::string_view word = words[at];
    if (ends_command(word)) return true;
    if (is_option(word)) continue;
    const std::string_view program = base_name(word);
    const bool variable = word.starts_with('$') || word.starts_with('%');
    if (program.starts_with("fastboot") || word.starts_with("./") || variable) return true;
    // The value of an option before it.
    if (at == 0 || !words[at - 1].starts_with('-')) return false;
  }
  return false;
}

/// The words behind a verb: partition, then file, with options anywhere between.
std::optional<ListingRow> written_by(const std::vector<std::string>& words, std::size_t at,
                                     const IsFile& is_file) {
  ListingRow row;
  for (; at < words.size() && !ends_command(words[at]); ++at) {
    std::string_view word = words[at];
    if (is_option(word)) {
      if (word == "--slot" || word == "-s" || word == "-S") ++at;
      continue;
    }
    if (row.partition.empty()) {
      if (contains(kNoNames, word)) return std::nullopt;
      row.partition = partition_of(word);
      if (row.partition.empty()) return std::nullopt;
      continue;
    }
    row.file = slashed(trimmed(word));
    return is_file(row.file) ? std::optional(std::move(row)) : std::nullopt;
  }
  return std::nullopt;
}

}  // namespace

std::string without_own_folder(std::string_view line) {
  static constexpr std::string_view kHere[] = {"%~dp0\\",
                                               "%~dp0/",
                                               "%~dp0",
                                               "%cd%\\",
                                               "`dirname $0`/",
                                               "`dirname \"$0\"`/",
                                               "$(dirname $0)/",
                                               "$(dirname \"$0\")/",
                                               "$(dirname -- \"$0\")/",
                                               "${0%/*}/",
                                               "$(pwd)/",
                                               "`pwd`/"};
  std::string out(line);
  for (const std::string_view here : kHere)
    for (std::size_t at = out.find(here); at != out.npos; at = out.find(here, at))
      out.erase(at, here.size());
  return out;
}

std::vector<ListingRow> command_rows(std::string_view line, bool script, const IsFile& is_file) {
  std::vector<ListingRow> out;
  const std::vector<std::string> words = shell_words(without_own_folder(line));
  if (words.empty() || contains(kTellers, words.front())) return out;
  for (std::size_t i = 0; i < words.size(); ++i) {
    if (!contains(kVerbs, words[i]) || !(script || is_called(words, i))) continue;
    if (auto row = written_by(words, i + 1, is_file)) out.push_back(std::move(*row));
  }
  return out;
}

std::optional<TableLines::Line> TableLines::read(std::string_view line) const {
  std::string parted = without_own_folder(line);
  for (char& c : parted)
    if (std::string_view(",;=|\t\"()`").contains(c)) c = ' ';
  Line out;
  bool named = false;
  for (std::string_view word : split_words(parted)) {
    if (word.ends_with(':')) word.remove_suffix(1);
    if (word.empty()) continue;
    const std::size_t column = out.words.size();
    out.words.emplace_back(word);
    if (word.starts_with('*')) word.remove_prefix(1);  // sums of binary files
    constexpr std::size_t kShortestDigest = 32;
    std::string path = slashed(word);
    if (auto promise = promise_of(word, by_); promise && word.size() >= kShortestDigest) {
      out.promises.push_back(std::move(*promise));
    } else if (!named && is_file_(path)) {
      named = true;
      out.file = column;
      out.path = std::move(path);
    } else if (named) {
      if (const auto value = number(word)) out.numbers.push_back(*value);
    }
  }
  return named ? std::optional(std::move(out)) : std::nullopt;
}

void TableLines::add(std::string_view text) {
  auto line = read(text);
  if (!line) return end_of_table();
  if (!table_.empty() &&
      (table_.front().words.size() != line->words.size() || table_.front().file != line->file))
    end_of_table();
  table_.push_back(std::move(*line));
}

/// The column before the file, but for numbers and digests: it can be a name in every line, and is
/// not the same in all.
std::optional<std::size_t> TableLines::partition_column() const {
  constexpr std::size_t kLeast = 3;  // lines: fewer may be a text that names files
  if (table_.size() < kLeast) return std::nullopt;
  const auto all = [&](std::size_t column, auto holds) {
    return std::ranges::all_of(table_,
                               [&](const Line& line) -> bool { return holds(line.words[column]); });
  };
  for (std::size_t column = table_.front().file; column-- > 0;) {
    if (all(column, [&](const std::string& word) { return number(word) || promise_of(word, by_); }))
      continue;
    std::set<std::string_view> seen;
    const bool names = all(column, [&](const std::string& word) {
      seen.insert(word);
      return std::isalpha(static_cast<unsigned char>(word.front())) != 0 &&
             !partition_of(word).empty() && meaning_of(plain(word)) != Meaning::Digest &&
             !contains(kNoNames, plain(word)) && !contains(kVerbs, word);
    });
    return names && seen.size() > 1 ? std::optional(column) : std::nullopt;
  }
  return std::nullopt;
}

void TableLines::end_of_table() {
  const auto column = partition_column();
  for (Line& line : std::exchange(table_, {})) {
    ListingRow row{.file = std::move(line.path), .promises = std::move(line.promises)};
    if (column) row.partition = partition_of(line.words[*column]);
    if (line.numbers.size() >= 2) {
      row.start = line.numbers[0];
      row.length = line.numbers[1];
    }
    rows_.push_back(std::move(row));
  }
}

}  // namespace wexlo::listing
