#include "kit/facts/sheet.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/source.hpp"
#include "text/text.hpp"
#include "text/toml_read.hpp"
#include "text/toml_write.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kUnknown = "unknown", kByHand = "written by hand";
constexpr std::int64_t kFormat = 1;

constexpr std::array kKeys{
    FactKey{"phone", "codename", FactKind::Text, "what builds call the device", {}},
    FactKey{"phone", "product", FactKind::Text, "what its bootloader calls it", {}},
    FactKey{"phone", "model", FactKind::Text, "model number", {}},
    FactKey{"phone", "variant", FactKind::Text, "hardware variant", {}},
    FactKey{"phone", "region", FactKind::Text, "region or carrier of its firmware", {}},
    FactKey{"phone", "chipset", FactKind::Text, "chipset", {}},
    FactKey{"phone", "architecture", FactKind::Choice, "processor", "arm|arm64|x86|x86_64|riscv64"},
    FactKey{"phone", "mode", FactKind::Choice, "how it takes images", "bootloader|download"},
    FactKey{"build", "fingerprint", FactKind::Text, "fingerprint of the build it runs", {}},
    FactKey{
        "build", "other_slot", FactKind::Text, "fingerprint of the build in the other slot", {}},
    FactKey{"build", "patch_level", FactKind::Text, "security patch level, YYYY-MM-DD", {}},
    FactKey{"build", "incremental", FactKind::Text, "build number", {}},
    FactKey{"build", "baseband", FactKind::Text, "baseband version", {}},
    FactKey{"build", "bootloader", FactKind::Text, "bootloader version", {}},
    FactKey{"build", "sdk", FactKind::Number, "API level", {}},
    FactKey{"state", "lock", FactKind::Choice, "lock state", "locked|unlocked"},
    FactKey{"state", "slots", FactKind::Choice, "number of slots", "1|2"},
    FactKey{"state", "current_slot", FactKind::Choice, "slot it starts from", "a|b"},
    FactKey{"state", "update", FactKind::Choice, "an over-the-air update that is not finished",
            "none|snapshotted|merging"},
    FactKey{"state", "battery_percent", FactKind::Number, "charge", {}},
    FactKey{"state", "battery_enough", FactKind::Choice, "what its bootloader says of the charge",
            "yes|no"},
    FactKey{"state", "battery_millivolt", FactKind::Number, "battery voltage", {}},
    FactKey{"state", "download_limit", FactKind::Number, "most bytes of one download", {}},
    FactKey{"state", "anti_rollback", FactKind::Number, "its maker's anti-rollback number", {}},
    FactKey{"super", "size", FactKind::Number, "bytes of the super partition", {}},
    FactKey{"super", "free", FactKind::Number, "bytes in it that no partition has", {}},
};

constexpr std::array<std::pair<std::string_view, std::string_view>, 9> kNotes{{
    {"bootloader", "keys and screen that lead to the bootloader"},
    {"userspace", "how its userspace flashing mode is reached and looks"},
    {"download", "keys and screen that lead to download mode"},
    {"recovery", "keys and screen that lead to recovery"},
    {"unlock", "where the switch for unlocking hides, and until when"},
    {"accounts", "locks and accounts to remove first"},
    {"secure_startup", "secure start-up: to be switched off"},
    {"updates", "automatic updates: to be switched off"},
    {"notes", "anything else"},
}};

bool is_choice(std::string_view value, std::string_view choices) {
  while (!choices.empty()) {
    const std::size_t end = std::min(choices.find('|'), choices.size());
    if (choices.substr(0, end) == value) return true;
    choices.remove_prefix(std::min(end + 1, choices.size()));
  }
  return false;
}

/// Reads a sheet's tables; every key has to be one that is known, so that a mistyped one is told.
class SheetReader {
 public:
  explicit SheetReader(std::string file) : file_(std::move(file)) {}

  Result<Sheet> read(const toml::table& top) {
    WEXLO_TRY(const auto format, toml_get_or<std::int64_t>(top, "format", kFormat, file_));
    if (format != kFormat)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a sheet of another format version",
                   .file = file_,
                   .expected = fmt::format("{}", kFormat),
                   .found = fmt::format("{}", format)});
    for (const auto& [key, node] : top) {
      const std::string_view name = key.str();
      if (name == "format") continue;
      if (name == "logical" || name == "group") {
        WEXLO_CHECK(rows(node, name == "logical"));
        continue;
      }
      const toml::table* table = node.as_table();
      if (table == nullptr) return wrong(node, fmt::format("{} is no table of a sheet", name));
      WEXLO_CHECK(section(name, *table));
    }
    return std::move(out_);
  }

 private:
  std::unexpected<Error> wrong(const toml::node& node, std::string message) const {
    return fail(toml_error(node, std::move(message), file_));
  }

  Status section(std::string_view name, const toml::table& table) {
    for (const auto& [key, node] : table) {
      if (name == "partitions") {
        WEXLO_TRY(out_.partitions[std::string(key.str())], size(node));
      } else if (name == "rollback") {
        const auto location = parse_number(key.str());
        if (!location || *location > 31)
          return wrong(node, "a rollback location is a number from 0 to 31");
        WEXLO_TRY(out_.rollback[static_cast<std::uint32_t>(*location)], size(node));
      } else if (name == "access") {
        const auto text = node.value_exact<std::string>();
        if (!text) return wrong(node, fmt::format("access.{} is a text", key.str()));
        out_.access.emplace_back(key.str(), *text);
      } else {
        WEXLO_CHECK(fact(name, key.str(), node));
      }
    }
    std::ranges::sort(out_.access);
    return {};
  }

  Result<std::uint64_t> size(const toml::node& node) const {
    if (const auto value = node.value_exact<std::int64_t>(); value && *value >= 0)
      return static_cast<std::uint64_t>(*value);
    if (const auto text = node.value_exact<std::string>())
      if (const auto value = parse_number(*text)) return *value;
    return wrong(node, "a number is wanted here");
  }

  Status fact(std::string_view table, std::string_view name, const toml::node& node) {
    const auto row = std::ranges::find_if(
        kKeys, [&](const FactKey& one) { return one.table == table && one.name == name; });
    if (row == kKeys.end())
      return wrong(node, fmt::format("a sheet does not know {}.{}", table, name));
    Known known{.value = {}, .source = std::string(kByHand)};
    const toml::node* value = &node;
    if (const toml::table* both = node.as_table()) {
      value = both->get("value");
      if (value == nullptr) return wrong(node, fmt::format("{}.{} has no value", table, name));
      WEXLO_TRY(known.source, toml_get_or<std::string>(*both, "source", known.source, file_));
    }
    if (const auto text = value->value_exact<std::string>())
      known.value = *text;
    else if (const auto number = value->value_exact<std::int64_t>())
      known.value = fmt::format("{}", *number);
    else
      return wrong(*value, fmt::format("{}.{} is a text or a number", table, name));
    if (!out_.set(row->key(), known.value, known.source))
      return wrong(*value, row->kind == FactKind::Number
                               ? fmt::format("{}.{} is a number", table, name)
                               : fmt::format("{}.{} is one of {}", table, name, row->choices));
    return {};
  }

  Status rows(const toml::node& node, bool logical) {
    const toml::array* list = node.as_array();
    if (list == nullptr) return wrong(node, "a list of tables is wanted here");
    for (const toml::node& one : *list) {
      const toml::table* row = one.as_table();
      if (row == nullptr) return wrong(one, "a list of tables is wanted here");
      WEXLO_TRY(const auto name, toml_get<std::string>(*row, "name", file_));
      std::uint64_t bytes = 0;
      if (const toml::node* value = row->get("size")) {
        WEXLO_TRY(bytes, size(*value));
      }
      WEXLO_TRY(const auto group, toml_get_or<std::string>(*row, "group", "", file_));
      if (logical)
        out_.logical.push_back({name, bytes, group});
      else
        out_.groups.push_back({name, bytes});
    }
    return {};
  }

  std::string file_;
  Sheet out_;
};

/// Letters, digits and dashes need no quotes.
std::string written(const FactKey& key, const Known& known) {
  const std::string value = key.kind == FactKind::Number
                                ? fmt::format("{}", parse_number(known.value).value_or(0))
                                : toml_quote_utf8(known.value);
  if (known.source == kByHand) return value;
  return fmt::format("{{ value = {}, source = {} }}", value, toml_quote_utf8(known.source));
}

}  // namespace

std::string FactKey::key() const {
  return fmt::format("{}.{}", table, name);
}

std::span<const FactKey> sheet_keys() {
  return kKeys;
}

std::span<const std::pair<std::string_view, std::string_view>> access_notes() {
  return kNotes;
}

const std::string& Sheet::text(std::string_view key) const {
  static const std::string none;
  const auto at = facts.find(key);
  return at == facts.end() ? none : at->second.value;
}

std::optional<std::uint64_t> Sheet::number(std::string_view key) const {
  return parse_number(text(key));
}

const std::string& Sheet::note(std::string_view name) const {
  static const std::string none;
  const auto at = std::ranges::find(access, name, &std::pair<std::string, std::string>::first);
  return at == access.end() ? none : at->second;
}

std::optional<std::uint64_t> Sheet::size_of(std::string_view partition) const {
  const std::string bare(partition);
  for (const std::string& name : {bare, bare + "_" + text("state.current_slot"), bare + "_a"})
    if (const auto at = partitions.find(name); at != partitions.end()) return at->second;
  return std::nullopt;
}

bool Sheet::set(std::string_view key, std::string value, std::string source) {
  const auto row = std::ranges::find(kKeys, key, &FactKey::key);
  if (row == kKeys.end()) return false;
  if (value.empty() || value == kUnknown) return true;
  if (row->kind == FactKind::Number && !parse_number(value)) return false;
  if (row->kind == FactKind::Choice && !is_choice(value, row->choices)) return false;
  facts[std::string(key)] = {std::move(value), std::move(source)};
  return true;
}

void Sheet::merge(const Sheet& other) {
  for (const auto& [key, known] : other.facts)
    facts.emplace(key, known);
  for (const auto& [name, size] : other.partitions)
    partitions.emplace(name, size);
  for (const auto& [location, index] : other.rollback)
    rollback.emplace(location, index);
  if (logical.empty()) logical = other.logical;
  if (groups.empty()) groups = other.groups;
  for (const auto& one : other.access)
    if (note(one.first).empty()) access.push_back(one);
  std::ranges::sort(access);
}

Result<Sheet> parse_sheet(std::string_view text, const std::string& file) {
  WEXLO_TRY(const toml::table table, parse_toml(text, file));
  return SheetReader(file).read(table);
}

namespace {

/// Whether a text is what `getprop` prints.
bool holds_properties(const std::filesystem::path& file) {
  constexpr std::uint64_t kMost = 1u << 20;
  const auto source = open_file(file);
  if (!source) return false;
  const auto text = read_all(**source, kMost);
  return text && as_text(text->view()).contains("[ro.");
}

}  // namespace

Result<Sheet> read_sheet(const std::filesystem::path& file) {
  const auto table = read_toml(file);
  if (table) return SheetReader(file.string()).read(*table);
  Error why = table.error();
  if (why.code == ErrorCode::BadValue && holds_properties(file))
    why.hint = fmt::format(
        "These are a phone's properties: wexlo sheet --props {} -o SHEET makes its sheet.",
        file.string());
  return fail(std::move(why));
}

std::string format_sheet(const Sheet& sheet) {
  TomlWriter out;
  out.comment("What is known of one phone. \"unknown\" is an answer, too.").number("format", 1);
  std::string_view table;
  for (const FactKey& key : kKeys) {
    if (key.table != table) out.table(table = key.table);
    const auto at = sheet.facts.find(key.key());
    out.value(key.name, at == sheet.facts.end() ? "\"unknown\"" : written(key, at->second),
              key.about);
  }
  if (!sheet.partitions.empty()) out.table("partitions", "bytes");
  for (const auto& [name, size] : sheet.partitions)
    out.number(toml_key(name), size);
  if (!sheet.rollback.empty()) out.table("rollback", "stored index by location");
  for (const auto& [location, index] : sheet.rollback)
    out.text(fmt::format("{}", location), fmt::format("{}", index));
  if (!sheet.access.empty()) out.table("access", "the bench's own notes on this phone");
  for (const auto& [name, text] : sheet.access)
    out.text(toml_key(name), text);
  for (const LogicalGroup& one : sheet.groups)
    out.entry("group").text("name", one.name).number("size", one.size);
  for (const LogicalPartition& one : sheet.logical)
    out.entry("logical").text("name", one.name).number("size", one.size).text("group", one.group);
  return out.str();
}

}  // namespace wexlo
