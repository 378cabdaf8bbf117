#include "phone/simulated/phone_state.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "text/hex.hpp"
#include "text/text.hpp"
#include "text/toml_read.hpp"
#include "text/toml_write.hpp"

namespace wexlo {
namespace {

constexpr std::array<std::string_view, 3> kUpdates{"none", "snapshotted", "merging"};
constexpr std::array<std::string_view, 3> kGivesBack{"nowhere", "userspace", "everywhere"};
constexpr std::int64_t kFormat = 1;

std::vector<std::string> list_of(const std::set<std::string>& all) {
  return {all.begin(), all.end()};
}

/// Reads one value after the other; the first mistake is kept.
class StateReader {
 public:
  StateReader(const toml::table& table, const std::string& file) : table_(table), file_(file) {}

  void text(std::string_view key, std::string& out) { get<std::string>(key, out); }
  void flag(std::string_view key, bool& out) { get<bool>(key, out); }
  template <class T>
  void number(std::string_view key, T& out) {
    std::int64_t value = static_cast<std::int64_t>(out);
    get<std::int64_t>(key, value);
    if (value < 0) return wrong(key, "is below 0");
    out = static_cast<T>(value);
  }
  void names(std::string_view key, std::set<std::string>& out) {
    const auto list = toml_list(table_, key, file_);
    if (!list) return keep(list.error());
    if (*list == nullptr) return;
    for (const toml::node& one : **list) {
      const auto name = one.value_exact<std::string>();
      if (!name) return keep(toml_error(one, "a name is wanted", file_));
      out.insert(*name);
    }
  }
  template <class E, std::size_t N>
  void word(std::string_view key, const std::array<std::string_view, N>& words, E& out) {
    std::string text(words[static_cast<std::size_t>(out)]);
    get<std::string>(key, text);
    const auto* const at = std::ranges::find(words, text);
    if (at == words.end()) return wrong(key, fmt::format("is none of {}", fmt::join(words, ", ")));
    out = static_cast<E>(at - words.begin());
  }
  void bytes(std::string_view key, Bytes& out) {
    std::string text;
    get<std::string>(key, text);
    auto read = bytes_of_hex(text);
    if (!read) return wrong(key, "is no hexadecimal text");
    out = std::move(*read);
  }
  [[nodiscard]] const toml::table* part(std::string_view key) const {
    return table_[key].as_table();
  }
  void wrong(std::string_view key, const std::string& what) {
    const toml::node* const node = table_.get(key);
    keep(toml_error(node != nullptr ? *node : table_, fmt::format("{} {}", key, what), file_));
  }
  void keep(const Error& why) {
    if (!trouble) trouble = why;
  }
  std::optional<Error> trouble;

 private:
  template <class T>
  void get(std::string_view key, T& out) {
    auto value = toml_get_or<T>(table_, key, out, file_);
    if (!value) return keep(value.error());
    out = std::move(*value);
  }
  const toml::table& table_;
  const std::string& file_;
};

Status read_slots(const toml::table& table, const std::string& file, PhoneState& out) {
  for (const auto& [name, node] : table) {
    const toml::table* const one = node.as_table();
    if (one == nullptr) return fail(toml_error(node, "a slot is a table", file));
    StateReader reader(*one, file);
    SlotMarks marks;
    reader.number("tries", marks.tries);
    reader.flag("successful", marks.successful);
    reader.flag("unbootable", marks.unbootable);
    if (reader.trouble) return fail(*reader.trouble);
    out.slots[std::string(name.str())] = marks;
  }
  return {};
}

Status read_tables(const toml::table& root, const std::string& file, PhoneState& out) {
  if (const toml::table* const slots = root["slot"].as_table())
    WEXLO_CHECK(read_slots(*slots, file, out));
  if (const toml::table* const stored = root["rollback"].as_table())
    for (const auto& [name, node] : *stored) {
      const auto location = parse_number(name.str());
      const auto value = node.value_exact<std::int64_t>();
      if (!location || !value)
        return fail(toml_error(node, "a location and a number are wanted", file));
      out.rollback[static_cast<std::uint32_t>(*location)] = static_cast<std::uint64_t>(*value);
    }
  if (const toml::table* const all = root["variables"].as_table())
    for (const auto& [name, node] : *all) {
      const auto value = node.value_exact<std::string>();
      if (!value) return fail(toml_error(node, "a text is wanted", file));
      out.variables[std::string(name.str())] = *value;
    }
  return {};
}

}  // namespace

std::string_view update_word(UpdateState state) {
  return kUpdates[static_cast<std::size_t>(state)];
}

std::string_view reading_back_word(ReadingBack where) {
  return kGivesBack[static_cast<std::size_t>(where)];
}

std::string format_phone(const PhoneState& state) {
  TomlWriter out;
  out.comment("A simulated phone: docs/simulated-phone.md. Its partitions are the files beside.");
  out.number("format", kFormat);
  out.text("product", state.product).text("serial", state.serial);
  out.text_if("variant", state.variant);
  out.text("mode", phone_mode_word(state.mode));
  out.flag("slotted", state.slotted).text("current_slot", state.slot);
  out.flag("locked", state.locked).flag("critical_locked", state.critical_locked);
  out.flag("fuse", state.fuse).number("battery_percent", state.battery);
  out.text("update", update_word(state.update));
  out.number("download_limit", state.download_limit).number("fetch_limit", state.fetch_limit);
  out.text("gives_back", reading_back_word(state.gives_back));
  out.flag("restores_recovery", state.restores_recovery);
  out.flag("recovery_ran", state.recovery_ran);
  out.flag("level_from_header", state.level_from_header);
  out.flag("updates_off", state.updates_off);
  out.texts_if("critical", list_of(state.critical));
  out.texts_if("silent", list_of(state.silent));
  out.texts_if("written", list_of(state.written));
  out.text_if("root_key", hex(state.root_key)).text_if("owner_key", hex(state.owner_key));
  out.table("data").flag("wiped", state.data.wiped).text("bound_to", state.data.bound_to);
  out.flag("unreadable", state.data.unreadable);
  out.table("download_mode").flag("there", state.download.there);
  out.flag("online", state.download.online).flag("strict", state.download.strict);
  for (const auto& [name, marks] : state.slots) {
    out.table("slot." + name).number("tries", marks.tries).flag("successful", marks.successful);
    out.flag("unbootable", marks.unbootable);
  }
  if (!state.rollback.empty()) out.table("rollback");
  for (const auto& [location, value] : state.rollback)
    out.number(fmt::format("{}", location), value);
  if (!state.variables.empty()) out.table("variables");
  for (const auto& [name, value] : state.variables)
    out.text(toml_key(name), value);
  return out.str();
}

Result<PhoneState> parse_phone(std::string_view text, const std::string& file) {
  WEXLO_TRY(const toml::table root, parse_toml(text, file));
  PhoneState out;
  StateReader in(root, file);
  in.text("product", out.product);
  in.text("serial", out.serial);
  in.text("variant", out.variant);
  std::string mode(phone_mode_word(out.mode));
  in.text("mode", mode);
  if (const auto read = phone_mode_of(mode))
    out.mode = *read;
  else
    in.wrong("mode", "is none that a phone has");
  in.flag("slotted", out.slotted);
  in.text("current_slot", out.slot);
  in.flag("locked", out.locked);
  in.flag("critical_locked", out.critical_locked);
  in.flag("fuse", out.fuse);
  in.number("battery_percent", out.battery);
  in.word("update", kUpdates, out.update);
  in.number("download_limit", out.download_limit);
  in.number("fetch_limit", out.fetch_limit);
  in.word("gives_back", kGivesBack, out.gives_back);
  in.flag("restores_recovery", out.restores_recovery);
  in.flag("recovery_ran", out.recovery_ran);
  in.flag("level_from_header", out.level_from_header);
  in.flag("updates_off", out.updates_off);
  in.names("critical", out.critical);
  in.names("silent", out.silent);
  in.names("written", out.written);
  in.bytes("root_key", out.root_key);
  in.bytes("owner_key", out.owner_key);
  if (const toml::table* const table = in.part("data")) {
    StateReader data(*table, file);
    data.flag("wiped", out.data.wiped);
    data.text("bound_to", out.data.bound_to);
    data.flag("unreadable", out.data.unreadable);
    if (data.trouble) in.keep(*data.trouble);
  }
  if (const toml::table* const table = in.part("download_mode")) {
    StateReader guard(*table, file);
    guard.flag("there", out.download.there);
    guard.flag("online", out.download.online);
    guard.flag("strict", out.download.strict);
    if (guard.trouble) in.keep(*guard.trouble);
  }
  if (in.trouble) return fail(*in.trouble);
  WEXLO_CHECK(read_tables(root, file, out));
  return out;
}

}  // namespace wexlo
