#include "ramdisk/permissive.hpp"

#include <algorithm>
#include <array>

namespace wexlo {
namespace {

struct Rule {
  std::string_view key, value;
};
/// Source: the kernel's own parameters, and the ones that init reads.
constexpr std::array kRules{
    Rule{"androidboot.selinux", "permissive"},
    Rule{"androidboot.selinux", "disabled"},
    Rule{"enforcing", "0"},
    Rule{"selinux", "0"},
    Rule{"ro.boot.selinux", "permissive"},
    Rule{"ro.boot.selinux", "disabled"},
};

std::string_view trimmed(std::string_view text) {
  const auto begin = text.find_first_not_of(" \t\r\"'");
  if (begin == text.npos) return {};
  return text.substr(begin, text.find_last_not_of(" \t\r\"'") - begin + 1);
}

bool lowers(std::string_view setting) {
  const auto cut = setting.find('=');
  if (cut == setting.npos) return false;
  const auto key = trimmed(setting.substr(0, cut)), value = trimmed(setting.substr(cut + 1));
  return std::ranges::any_of(
      kRules, [&](const Rule& rule) { return rule.key == key && rule.value == value; });
}

std::string_view last_name(std::string_view place) {
  return place.substr(place.rfind('/') + 1);  // npos + 1 is 0
}

}  // namespace

std::vector<PermissiveWord> permissive_words(std::string_view text, std::string_view where) {
  std::vector<PermissiveWord> out;
  const auto look = [&](std::string_view separators) {
    std::string_view rest = text;
    while (!rest.empty()) {
      const auto end = std::min(rest.find_first_of(separators), rest.size());
      const auto word = trimmed(rest.substr(0, end));
      const bool known = std::ranges::any_of(out, [&](const auto& w) { return w.word == word; });
      if (lowers(word) && !known) out.push_back({std::string(where), std::string(word)});
      rest.remove_prefix(std::min(end + 1, rest.size()));
    }
  };
  look(" \t\n");  // a command line
  look(";\n");    // a bootconfig, where blanks may stand around `=`
  return out;
}

std::vector<PermissiveWord> permissive_properties(const Ramdisk& ramdisk) {
  std::vector<PermissiveWord> out;
  for (std::size_t s = 0; s < ramdisk.segments.size(); ++s) {
    const auto& entries = ramdisk.segments[s].archive.entries;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      const std::string place = newc::place_of(entries[i].name());
      if (entries[i].type() != newc::Regular || !is_property_name(place)) continue;
      const Blob text = content_of(ramdisk, {s, i});
      for (auto& word : permissive_words(as_text(text.view()), "/" + place))
        out.push_back(std::move(word));
    }
  }
  return out;
}

bool is_policy_name(std::string_view place) {
  const auto name = last_name(place);
  return name == "sepolicy" || name == "precompiled_sepolicy" || name.ends_with(".cil") ||
         name.ends_with("_contexts") || name.starts_with("sepolicy.");
}

bool is_property_name(std::string_view place) {
  const auto name = last_name(place);
  return name.ends_with(".prop") || name == "prop.default";
}

}  // namespace wexlo
