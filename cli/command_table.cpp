#include "command_table.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <iterator>

namespace wexlo::cli {
namespace {

struct SectionTitle {
  Section section;
  std::string_view title;
};
constexpr std::array kSections{
    SectionTitle{Section::Main, "Options"},
    SectionTitle{Section::Firmware, "What goes in"},
    SectionTitle{Section::Recipes, "Recipes"},
    SectionTitle{Section::Phone, "The phone"},
    SectionTitle{Section::Judging, "How strict it is"},
    SectionTitle{Section::Signing, "Verified boot"},
    SectionTitle{Section::Output, "What comes out"},
};

struct ValueKind {
  std::string_view value;
  WordKind kind;
};
constexpr ValueKind kValues[] = {
    {"PATH", WordKind::File},
    {"PATH2", WordKind::File},
    {"FILE", WordKind::File},
    {"FIRMWARE", WordKind::File},
    {"DIR|FIRMWARE", WordKind::File},
    {"IMAGE", WordKind::File},
    {"PATCHED", WordKind::File},
    {"A", WordKind::File},
    {"B", WordKind::File},
    {"OUT", WordKind::File},
    {"STOCK", WordKind::File},
    {"SHEET", WordKind::File},
    {"ZIP", WordKind::File},
    {"KEY", WordKind::File},
    {"PUBKEY", WordKind::File},
    {"PROGRAM", WordKind::File},
    {"JOBS.toml", WordKind::File},
    {"BLOB", WordKind::File},
    {"CERT", WordKind::File},
    {"DIR", WordKind::Folder},
    {"PARTS", WordKind::Folder},
    {"KIT", WordKind::Folder},
    {"RECIPE", WordKind::Recipe},
    {"@NAME", WordKind::Recipe},
    {"PARTITION", WordKind::Partition},
    {"PARTITION=FILE", WordKind::Given},
    {"NAME=IMAGE", WordKind::Given},
    {"FINDING", WordKind::Code},
    {"CODE", WordKind::AnyCode},
    {"TOPIC", WordKind::Topic},
};

}  // namespace

WordKind word_kind(std::string_view value) {
  const auto row = std::ranges::find(kValues, value, &ValueKind::value);
  return row == std::end(kValues) ? WordKind::Text : row->kind;
}

std::string_view section_title(Section section) {
  return std::ranges::find(kSections, section, &SectionTitle::section)->title;
}

std::span<const Section> sections() {
  static const auto all = [] {
    std::array<Section, kSections.size()> out{};
    std::ranges::transform(kSections, out.begin(), &SectionTitle::section);
    return out;
  }();
  return all;
}

std::string OptionRow::title() const {
  std::string out = brief.empty() ? "" : brief + ", ";
  out += name;
  return value.empty() ? out : out + " " + value;
}

std::string OptionRow::explained() const {
  std::string out = about;
  if (!fallback.empty()) out += fmt::format(" (usually {})", fallback);
  if (repeats) out += "; may be given again";
  return out;
}

std::string joined_name(std::string_view name) {
  std::string out(name);
  std::ranges::replace(out, ' ', '-');
  return out;
}

std::string CommandRow::usage() const {
  std::string out = "wexlo " + name();
  for (const OperandRow& one : operands) {
    const std::string word = one.name + (one.many ? "..." : "");
    out += one.needed ? " " + word : " [" + word + "]";
  }
  for (const OptionRow& one : options)
    if (one.needed)
      out += fmt::format(" {} {}", one.brief.empty() ? one.name : one.brief, one.value);
  const bool more = std::ranges::any_of(options, [](const OptionRow& one) { return !one.needed; });
  return out + (more ? " [options]" : "");
}

const CommandRow* CommandTable::find(std::string_view name) const {
  const auto row =
      std::ranges::find_if(commands, [&](const CommandRow& one) { return one.page->name == name; });
  return row == commands.end() ? nullptr : &*row;
}

const OptionRow* CommandTable::find_option(const CommandRow* command, std::string_view name) const {
  const auto among = [&](const std::vector<OptionRow>& rows) -> const OptionRow* {
    const auto row = std::ranges::find_if(
        rows, [&](const OptionRow& one) { return one.name == name || one.brief == name; });
    return row == rows.end() || name.empty() ? nullptr : &*row;
  };
  const OptionRow* own = command == nullptr ? nullptr : among(command->options);
  return own != nullptr ? own : among(globals);
}

}  // namespace wexlo::cli
