#include "ramdisk/textfiles.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <optional>

namespace wexlo {
namespace {

constexpr std::string_view kBlanks = " \t";

/// The lines with their ends, so that joining them gives the text again.
std::vector<std::string_view> lines_of(std::string_view text) {
  std::vector<std::string_view> lines;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size() - 1) + 1;
    lines.push_back(text.substr(0, end));
    text.remove_prefix(end);
  }
  return lines;
}

struct Column {
  std::size_t begin, size;
};

std::vector<Column> columns_of(std::string_view line) {
  std::vector<Column> columns;
  std::size_t at = 0;
  line = line.substr(0, std::min(line.find_first_of("\r\n"), line.size()));
  while ((at = line.find_first_not_of(kBlanks, at)) != std::string_view::npos) {
    const std::size_t end = std::min(line.find_first_of(kBlanks, at), line.size());
    columns.push_back({at, end - at});
    at = end;
  }
  return columns;
}

std::vector<std::string_view> words_of(std::string_view list) {
  std::vector<std::string_view> words;
  while (!list.empty()) {
    const std::size_t end = std::min(list.find(','), list.size());
    if (end > 0) words.push_back(list.substr(0, end));
    list.remove_prefix(std::min(end + 1, list.size()));
  }
  return words;
}

/// The key of a property line, or nullopt for comments and everything else.
std::optional<std::string_view> property_key(std::string_view line) {
  const std::size_t begin = line.find_first_not_of(kBlanks);
  if (begin == std::string_view::npos || line[begin] == '#') return std::nullopt;
  const std::size_t equals = line.find('=', begin);
  if (equals == std::string_view::npos) return std::nullopt;
  std::string_view key = line.substr(begin, equals - begin);
  return key.substr(0, key.find_last_not_of(kBlanks) + 1);
}

}  // namespace

std::vector<FstabRow> fstab_rows(std::string_view text) {
  constexpr std::size_t kColumns = 5;
  std::vector<FstabRow> rows;
  for (const std::string_view line : lines_of(text)) {
    const auto columns = columns_of(line);
    if (columns.size() < kColumns || line[columns[0].begin] == '#') continue;
    FstabRow row{.mount_point = std::string(line.substr(columns[1].begin, columns[1].size))};
    for (const std::string_view flag : words_of(line.substr(columns[4].begin, columns[4].size))) {
      const auto word = flag.substr(0, std::min(flag.find('='), flag.size()));
      row.first_stage |= word == "first_stage_mount";
      row.verified |=
          word == "avb" || word == "avb_keys" || word == "verify" || word == "verifyatboot";
    }
    rows.push_back(std::move(row));
  }
  return rows;
}

FstabEdit drop_fstab_flags(std::string_view text, std::string_view mount_point,
                           const std::vector<std::string>& flags) {
  FstabEdit edit;
  for (const std::string_view line : lines_of(text)) {
    const auto columns = columns_of(line);
    const auto column = [&](std::size_t i) {
      return line.substr(columns[i].begin, columns[i].size);
    };
    if (columns.size() < 5 || column(0).starts_with('#') ||
        (mount_point != "*" && column(1) != mount_point)) {
      edit.text += line;
      continue;
    }
    std::vector<std::string_view> kept;
    for (const std::string_view word : words_of(column(4)))
      if (std::ranges::find(flags, word.substr(0, word.find('='))) == flags.end())
        kept.push_back(word);
    if (kept.size() == words_of(column(4)).size()) {
      edit.text += line;
      continue;
    }
    const std::string list = kept.empty() ? "defaults" : fmt::format("{}", fmt::join(kept, ","));
    edit.changes.push_back(fmt::format("{}: {} -> {}", column(1), column(4), list));
    edit.text += line.substr(0, columns[4].begin);
    edit.text += list;
    edit.text += line.substr(columns[4].begin + columns[4].size);
  }
  return edit;
}

bool is_fstab_name(std::string_view place) {
  const auto name = place.substr(place.rfind('/') + 1);
  return name.starts_with("fstab.") && name.size() > 6;
}

std::string set_property(std::string_view text, std::string_view key, std::string_view value) {
  const std::string wanted = fmt::format("{}={}\n", key, value);
  std::string out;
  bool found = false;
  for (const std::string_view line : lines_of(text)) {
    const bool sets = property_key(line) == key;
    found |= sets;
    out += sets ? std::string_view(wanted) : line;
  }
  if (found) return out;
  if (!out.empty() && out.back() != '\n') out += '\n';
  return out + wanted;
}

}  // namespace wexlo
