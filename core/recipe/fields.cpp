#include "recipe/fields.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "archive/newc.hpp"

namespace wexlo {
namespace {

/// Letters that have to be changed, put in or taken out to make one word of the other.
std::size_t distance(std::string_view a, std::string_view b) {
  std::vector<std::size_t> row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j)
    row[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    std::size_t corner = std::exchange(row[0], i);
    for (std::size_t j = 1; j <= b.size(); ++j)
      corner = std::exchange(
          row[j], std::min({row[j] + 1, row[j - 1] + 1, corner + (a[i - 1] != b[j - 1] ? 1 : 0)}));
  }
  return row[b.size()];
}

std::string as_plain_text(const toml::node& node) {
  if (const auto text = node.value_exact<std::string>()) return *text;
  if (const auto number = node.value_exact<std::int64_t>()) return fmt::format("{}", *number);
  if (const auto truth = node.value_exact<bool>()) return *truth ? "1" : "0";
  return {};
}

}  // namespace

void Reading::mistake(const toml::node& node, std::string message, ErrorCode code) {
  mistakes.push_back({.code = code,
                      .line = node.source().begin.line,
                      .column = node.source().begin.column,
                      .message = std::move(message)});
}

const toml::node* Fields::find(std::string_view key) {
  if (std::ranges::find(asked_, key) == asked_.end()) asked_.emplace_back(key);
  return table_.get(key);
}

bool Fields::has(std::string_view key) {
  return find(key) != nullptr;
}

bool Fields::is_text(std::string_view key) {
  const toml::node* node = find(key);
  return node != nullptr && node->is_string();
}

void Fields::wrong(std::string_view key, std::string message, ErrorCode code) {
  const toml::node* node = find(key);
  reading_.mistake(node == nullptr ? static_cast<const toml::node&>(table_) : *node,
                   std::move(message), code);
}

bool Fields::is_open(const toml::node& node) const {
  const auto raw = node.value_exact<std::string>();
  return raw && std::ranges::any_of(reading_.unfilled, [&](const std::string& name) {
           return raw->find("${" + name + "}") != std::string::npos;
         });
}

void Fields::note(std::string_view key, std::string_view value) {
  settings_[std::string(key)] += fmt::format("{} {}\n", value.size(), value);
}

/// What stands for `${name}`: itself, as long as the value is not known.
std::optional<std::string> Fields::value_of(const std::string& name, const toml::node& node,
                                            bool keep) {
  if (let_stand_.contains(name)) return "${" + name + "}";
  reading_.used.insert(name);
  if (const auto at = reading_.values.find(name); at != reading_.values.end())
    return keep ? "${" + name + "}" : at->second;
  const ValueRow* row = value_row(name);
  if (row == nullptr) {
    reading_.mistake(node, fmt::format("no parameter and no value is named \"{}\"", name));
    std::vector<std::string_view> known;
    for (const ValueRow& one : value_rows())
      known.push_back(one.name);
    for (const auto& [parameter, value] : reading_.values)
      known.push_back(parameter);
    reading_.mistakes.back().expected = fmt::format("{}", fmt::join(known, ", "));
    return std::nullopt;
  }
  if (names_ == Names::Parameters || (names_ == Names::Phone && !row->of_phone)) {
    reading_.mistake(
        node, names_ == Names::Phone
                  ? fmt::format("${{{}}} differs from image to image: a file that is brought along "
                                "cannot be chosen by it",
                                name)
                  : fmt::format("${{{}}} can stand in the texts, paths and files of an edit, not "
                                "here",
                                name));
    return std::nullopt;
  }
  if (const auto at = reading_.told.find(name); at != reading_.told.end()) return at->second;
  open_.insert(name);
  return "${" + name + "}";
}

/// Replaces `${name}` by the value; `$${` is `${` itself.
std::optional<std::string> Fields::expanded(std::string_view key, const toml::node& node,
                                            bool keep) {
  const auto raw = node.value_exact<std::string>();
  if (!raw) {
    reading_.mistake(node, fmt::format("{} has to be text", key));
    return std::nullopt;
  }
  std::string out;
  std::string_view rest = *raw;
  while (!rest.empty()) {
    const std::size_t begin = std::min(rest.find("${"), rest.size());
    out += rest.substr(0, begin);
    if (begin == rest.size()) break;
    const bool literal = begin > 0 && rest[begin - 1] == '$';
    rest.remove_prefix(begin);
    if (literal) {
      out += '{';
      rest.remove_prefix(2);
      continue;
    }
    const std::size_t end = rest.find('}');
    if (end == std::string_view::npos) {
      reading_.mistake(node, "\"${\" without a \"}\" behind the name; \"$${\" is \"${\" itself");
      return std::nullopt;
    }
    const auto value = value_of(std::string(rest.substr(2, end - 2)), node, keep);
    if (!value) return std::nullopt;
    out += *value;
    rest.remove_prefix(end + 1);
  }
  return out;
}

std::optional<std::string> Fields::optional_text(std::string_view key) {
  const toml::node* node = find(key);
  if (node == nullptr) return std::nullopt;
  auto value = expanded(key, *node);
  if (value) note(key, *value);
  return value ? value : std::optional<std::string>("");
}

std::string Fields::text(std::string_view key) {
  const auto value = optional_text(key);
  if (!value) {
    wrong(fmt::format("{} is missing", key));
    return {};
  }
  if (value->empty() && table_.get(key)->value_exact<std::string>() == "")
    wrong(key, fmt::format("{} is empty", key));
  return *value;
}

std::string Fields::text_or(std::string_view key, std::string fallback) {
  return optional_text(key).value_or(std::move(fallback));
}

std::vector<std::string> Fields::texts(std::string_view key) {
  const toml::node* node = find(key);
  std::vector<std::string> out;
  if (node == nullptr) return out;
  const auto take = [&](const toml::node& item) {
    if (auto value = expanded(key, item)) {
      note(key, *value);
      out.push_back(std::move(*value));
    }
  };
  if (const toml::array* array = node->as_array()) {
    for (const toml::node& item : *array)
      take(item);
    if (array->empty()) wrong(key, fmt::format("{} is an empty list", key));
  } else if (node->is_string()) {
    take(*node);
  } else {
    wrong(key, fmt::format("{} has to be a list of words", key));
  }
  return out;
}

bool Fields::flag(std::string_view key) {
  const toml::node* node = find(key);
  if (node == nullptr) return false;
  const auto value = node->value_exact<bool>();
  if (!value) wrong(key, fmt::format("{} has to be true or false", key));
  if (value && *value) note(key, "true");
  return value.value_or(false);
}

std::optional<std::uint32_t> Fields::number(std::string_view key, std::uint32_t most,
                                            std::uint32_t least) {
  const toml::node* node = find(key);
  if (node == nullptr) return std::nullopt;
  const auto value = node->value_exact<std::int64_t>();
  if (!value || *value < least || *value > most) {
    wrong(key, value ? fmt::format("{} is out of range: {} to {}", key, least, most)
                     : fmt::format("{} has to be a number", key));
    return 0;
  }
  note(key, fmt::format("{}", *value));
  return static_cast<std::uint32_t>(*value);
}

std::vector<std::uint32_t> Fields::numbers(std::string_view key) {
  const toml::node* node = find(key);
  std::vector<std::uint32_t> out;
  if (node == nullptr) return out;
  const auto take = [&](const toml::node& item) {
    const auto value = item.value_exact<std::int64_t>();
    if (!value || *value < 0 || *value > 0xffffffff)
      return reading_.mistake(item, fmt::format("{} holds no number here", key));
    note(key, fmt::format("{}", *value));
    out.push_back(static_cast<std::uint32_t>(*value));
  };
  if (const toml::array* array = node->as_array())
    for (const toml::node& item : *array)
      take(item);
  else
    take(*node);
  return out;
}

Pairs Fields::pairs(std::string_view key) {
  Pairs out;
  const toml::node* node = find(key);
  if (node == nullptr) return out;
  const toml::table* values = node->as_table();
  if (values == nullptr || values->empty()) {
    wrong(key, fmt::format("{} has to be a table of NAME = \"VALUE\"", key));
    return out;
  }
  // In the order they are written: toml++ sorts its tables.
  std::vector<std::pair<const toml::key*, const toml::node*>> rows;
  for (const auto& [name, value] : *values)
    rows.emplace_back(&name, &value);
  std::ranges::sort(rows, {}, [](const auto& row) {
    const auto begin = row.first->source().begin;
    return std::pair(begin.line, begin.column);
  });
  for (const auto& [name, value] : rows) {
    std::string text = as_plain_text(*value);
    if (value->is_string()) {
      auto filled = expanded(key, *value);
      if (!filled) continue;
      text = std::move(*filled);
    } else if (text.empty()) {
      reading_.mistake(*value, fmt::format("the value of {} has to be text", name->str()));
      continue;
    }
    const std::string spelled(name->str());
    if (text.find_first_of("\r\n") != std::string::npos || spelled.empty() ||
        spelled.find_first_of("\r\n") != std::string::npos) {
      reading_.mistake(*value, fmt::format("{} has to stay on one line", spelled));
      continue;
    }
    note(key, fmt::format("{}={}", spelled, text));
    out.emplace_back(spelled, std::move(text));
  }
  return out;
}

std::string Fields::place(std::string_view key, bool root_too) {
  const toml::node* node = find(key);
  if (node == nullptr) {
    wrong(fmt::format("{} is missing", key));
    return {};
  }
  const auto raw = expanded(key, *node);
  if (!raw) return {};
  std::string place = newc::place_of(*raw);
  note(key, place);
  if (("/" + place + "/").find("/../") != std::string::npos)
    wrong(key, fmt::format("{} \"{}\" leaves the ramdisk", key, *raw), ErrorCode::UnsafePath);
  else if (place.empty() && !root_too && !is_open(*node))
    wrong(key, fmt::format("{} does not name a file inside the ramdisk", key));
  else if (place.size() >= newc::kMaxName || place.find('\0') != std::string::npos)
    wrong(key, fmt::format("{} is no name that a kernel takes", key));
  return place;
}

FileRef Fields::file(std::string_view key, bool tree) {
  FileRef out{.is_tree = tree, .store = reading_.files};
  const toml::node* node = find(key);
  if (node == nullptr) {
    wrong(fmt::format("{} is missing", key));
    return out;
  }
  const auto raw = node->value_exact<std::string>();
  // What is open here is the file's matter: it is asked for when the file is wanted.
  const Names names = std::exchange(names_, Names::Phone);
  std::set<std::string> open = std::exchange(open_, {});
  const auto filled = expanded(key, *node);
  if (filled) out.named = *expanded(key, *node, true);
  names_ = names;
  out.open = std::exchange(open_, std::move(open));
  if (!raw || !filled) return out;
  out.spelled = *raw;
  out.from = *filled;
  // An archive is shown with the path in it, but never the folders that lead to it.
  const auto cut = out.from.find("!/");
  out.shown = std::filesystem::path(out.from.substr(0, cut)).filename().string();
  if (out.shown.empty())
    out.shown = std::filesystem::path(out.from.substr(0, cut)).parent_path().filename().string();
  if (cut != std::string::npos) out.shown += out.from.substr(cut);
  if (is_open(*node)) return out;
  if (out.from.empty()) wrong(key, fmt::format("{} is empty", key));
  if (reading_.describe_only || !reading_.bind_files || out.from.empty() || !out.open.empty())
    return out;
  if (auto bound = out.bind(); !bound) {
    Error error = std::move(bound).error();
    Mistake mistake{.code = error.code == ErrorCode::NotFound ? ErrorCode::BadValue : error.code,
                    .line = node->source().begin.line,
                    .column = node->source().begin.column,
                    .message = fmt::format("{} \"{}\": {}", key, out.from, error.message),
                    .expected = std::move(error.expected),
                    .found = std::move(error.found),
                    .of_file = true};
    out.missing = Error{.code = mistake.code,
                        .message = fmt::format("line {}, column {}: {}", mistake.line,
                                               mistake.column, mistake.message),
                        .expected = mistake.expected,
                        .found = mistake.found,
                        .hint = "Correct the line and run it again."};
    reading_.mistakes.push_back(std::move(mistake));
  }
  return out;
}

Access Fields::access() {
  constexpr std::uint32_t kMostMode = 07777, kMostOwner = 0xffffffff;
  return {number("mode", kMostMode), number("uid", kMostOwner), number("gid", kMostOwner)};
}

const toml::table* Fields::table(std::string_view key) {
  const toml::node* node = find(key);
  if (node == nullptr) return nullptr;
  if (!node->is_table()) wrong(key, fmt::format("{} is not a table", key));
  return node->as_table();
}

void Fields::finish() {
  for (const auto& [key, node] : table_) {
    if (std::ranges::find(asked_, key.str()) != asked_.end()) continue;
    const auto near = std::ranges::min_element(
        asked_, {}, [&](const std::string& known) { return distance(known, key.str()); });
    Mistake mistake{.line = key.source().begin.line,
                    .column = key.source().begin.column,
                    .message = fmt::format("unknown key \"{}\"", key.str())};
    if (near != asked_.end() && distance(*near, key.str()) <= 2)
      mistake.message += fmt::format("; \"{}\" is meant, perhaps", *near);
    mistake.expected = fmt::format("{}", fmt::join(asked_, ", "));
    reading_.mistakes.push_back(std::move(mistake));
  }
}

std::string Fields::settings() const {
  std::string out;
  for (const auto& [key, value] : settings_)
    out += fmt::format("{}:\n{}", key, value);
  return out;
}

}  // namespace wexlo
