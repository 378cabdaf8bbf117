#include "ramdisk/textfiles.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <optional>

namespace wexlo {
namespace {

constexpr std::string_view kBlanks = " \t";

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

/// Gives each entry's list of manager flags to `change`, and keeps everything else.
template <class Change>
FstabEdit change_flags(std::string_view text, std::string_view mount_point, Change change) {
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
    const std::string list = change(column(4));
    if (list == column(4)) {
      edit.text += line;
      continue;
    }
    edit.changes.push_back(fmt::format("{}: {} -> {}", column(1), column(4), list));
    edit.text += line.substr(0, columns[4].begin);
    edit.text += list;
    edit.text += line.substr(columns[4].begin + columns[4].size);
  }
  return edit;
}

std::string_view name_of(std::string_view flag) {
  return flag.substr(0, std::min(flag.find('='), flag.size()));
}

}  // namespace

std::vector<std::string_view> lines_of(std::string_view text) {
  std::vector<std::string_view> lines;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size() - 1) + 1;
    lines.push_back(text.substr(0, end));
    text.remove_prefix(end);
  }
  return lines;
}

std::string drop_flags(std::string_view list, const std::vector<std::string>& flags) {
  const auto words = words_of(list);
  std::vector<std::string_view> kept;
  for (const std::string_view word : words)
    if (std::ranges::find(flags, name_of(word)) == flags.end()) kept.push_back(word);
  if (kept.size() == words.size()) return std::string(list);
  return fmt::format("{}", fmt::join(kept, ","));
}

std::string set_flags(std::string_view list, const std::vector<std::string>& flags) {
  std::vector<std::string> words;
  for (const std::string_view word : words_of(list))
    words.emplace_back(word);
  bool changed = false;
  for (const std::string& flag : flags) {
    if (std::ranges::find(words, flag) != words.end()) continue;
    changed = true;
    const auto old = std::ranges::find(words, name_of(flag), name_of);
    if (old != words.end())
      *old = flag;
    else
      words.push_back(flag);
  }
  if (!changed) return std::string(list);
  if (words.front() == "defaults" && words.size() > 1) words.erase(words.begin());
  return fmt::format("{}", fmt::join(words, ","));
}

FstabEdit set_fstab_flags(std::string_view text, std::string_view mount_point,
                          const std::vector<std::string>& flags) {
  return change_flags(text, mount_point,
                      [&](std::string_view list) { return set_flags(list, flags); });
}

bool mounts(std::string_view text, std::string_view mount_point) {
  return std::ranges::any_of(fstab_rows(text), [&](const FstabRow& row) {
    return mount_point == "*" || row.mount_point == mount_point;
  });
}

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
      row.encrypted |= word == "fileencryption" || word == "forceencrypt" ||
                       word == "forcefdeorfbe" || word == "encryptable";
    }
    rows.push_back(std::move(row));
  }
  return rows;
}

FstabEdit drop_fstab_flags(std::string_view text, std::string_view mount_point,
                           const std::vector<std::string>& flags) {
  return change_flags(text, mount_point, [&](std::string_view list) {
    const std::string kept = drop_flags(list, flags);
    return kept.empty() ? std::string("defaults") : kept;
  });
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

std::string remove_property(std::string_view text, std::string_view key) {
  std::string out;
  for (const std::string_view line : lines_of(text))
    if (property_key(line) != key) out += line;
  return out;
}

std::optional<std::string> property(std::string_view text, std::string_view key) {
  for (const std::string_view line : lines_of(text)) {
    if (property_key(line) != key) continue;
    std::string_view value = line.substr(line.find('=') + 1);
    value = value.substr(0, value.find_first_of("\r\n"));
    return std::string(value);
  }
  return std::nullopt;
}

}  // namespace wexlo
