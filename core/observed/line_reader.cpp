#include "observed/line_reader.hpp"

#include <algorithm>
#include <array>

#include "image/words.hpp"
#include "kit/facts/pasted.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

struct KeyRow {
  std::string_view key;  ///< of a sheet
  Fact fact;
};
constexpr std::array kKeys{
    KeyRow{"phone.codename", Fact::Device},        KeyRow{"phone.product", Fact::Product},
    KeyRow{"phone.variant", Fact::Variant},        KeyRow{"build.fingerprint", Fact::Fingerprint},
    KeyRow{"build.patch_level", Fact::PatchLevel}, KeyRow{"state.lock", Fact::Lock},
    KeyRow{"state.current_slot", Fact::Slot},      KeyRow{"state.update", Fact::Update},
};

/// Names whose values say something by themselves, and what they say; value "": the value itself.
struct NameRow {
  std::string_view name, value;
  Fact fact;
  std::string_view says;
};
constexpr std::array kNames{
    NameRow{"ro.serialno", "", Fact::Serial, ""},
    NameRow{"ro.boot.serialno", "", Fact::Serial, ""},
    NameRow{"serialno", "", Fact::Serial, ""},
    NameRow{"ro.boot.verifiedbootstate", "green", Fact::VerifiedState, "green"},
    NameRow{"ro.boot.verifiedbootstate", "yellow", Fact::VerifiedState, "yellow"},
    NameRow{"ro.boot.verifiedbootstate", "orange", Fact::VerifiedState, "orange"},
    NameRow{"ro.boot.verifiedbootstate", "red", Fact::VerifiedState, "red"},
    NameRow{"ro.boot.selinux", "enforcing", Fact::Selinux, "enforcing"},
    NameRow{"ro.boot.selinux", "permissive", Fact::Selinux, "permissive"},
    NameRow{"ro.boot.selinux", "disabled", Fact::Selinux, "disabled"},
    NameRow{"ro.crypto.state", "encrypted", Fact::Encryption, "encrypted"},
    NameRow{"ro.crypto.state", "unencrypted", Fact::Encryption, "unencrypted"},
    NameRow{"ro.crypto.state", "unsupported", Fact::Encryption, "unencrypted"},
    NameRow{"sys.boot_completed", "1", Fact::Started, "yes"},
    NameRow{"dev.bootcomplete", "1", Fact::Started, "yes"},
    NameRow{"ro.bootmode", "recovery", Fact::Mode, "recovery"},
    NameRow{"ro.boot.mode", "recovery", Fact::Mode, "recovery"},
    NameRow{"ro.bootmode", "normal", Fact::Mode, "system"},
    NameRow{"is-userspace", "yes", Fact::Mode, "userspace"},
    NameRow{"is-userspace", "no", Fact::Mode, "bootloader"},
    NameRow{"user_setup_complete", "1", Fact::SetUp, "yes"},
    NameRow{"user_setup_complete", "0", Fact::SetUp, "no"},
    NameRow{"device_provisioned", "1", Fact::SetUp, "yes"},
    NameRow{"device_provisioned", "0", Fact::SetUp, "no"},
    NameRow{"ota_disable_automatic_update", "1", Fact::Updates, "off"},
    NameRow{"ota_disable_automatic_update", "0", Fact::Updates, "on"},
    NameRow{"PAGE_SIZE", "", Fact::PageSize, ""},
};

/// Of these the device has several names, and the first that ranks is meant.
bool is_ranked(Fact fact) {
  return fact == Fact::Device || fact == Fact::Fingerprint || fact == Fact::Variant ||
         fact == Fact::PatchLevel;
}

bool is_name(std::string_view text) {
  constexpr std::string_view kLetters =
      "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.:@-";
  return !text.empty() && text.find_first_not_of(kLetters) == text.npos &&
         text.find_first_not_of("0123456789.:-") != text.npos;
}

/// Names that stand for a property or setting wherever they are met.
bool is_known_name(std::string_view name) {
  return std::ranges::find(kNames, name, &NameRow::name) != kNames.end() ||
         property_fact(name, "") || name.starts_with("ro.") || name.starts_with("persist.") ||
         name.starts_with("sys.") || name.starts_with("vold.") || name.starts_with("init.svc.");
}

bool is_variable(std::string_view name) {
  for (const std::string_view begin :
       {"partition-size:", "partition-type:", "is-logical:", "has-slot:", "slot-successful:",
        "slot-unbootable:", "slot-retry-count:", "version", "max-", "erase-block-size",
        "logical-block-size", "super-partition-name", "hw-revision", "secure", "is-userspace",
        "serialno", "variant", "battery-"})
    if (name.starts_with(begin)) return true;
  return property_fact(name, "").has_value();
}

/// In its own words: "androidboot.slot_suffix" becomes the property "ro.boot.slot_suffix".
std::string as_property(std::string_view word) {
  constexpr std::string_view kFront = "androidboot.";
  return word.starts_with(kFront) ? "ro.boot." + std::string(word.substr(kFront.size()))
                                  : std::string();
}

std::string_view unquoted(std::string_view text) {
  if (text.size() >= 2 && text.front() == '"' && text.back() == '"')
    return text.substr(1, text.size() - 2);
  return text;
}

/// Brand/product/device:version/id/number:type/tags.
bool is_fingerprint(std::string_view text) {
  return std::ranges::count(text, '/') == 5 && std::ranges::count(text, ':') == 2 &&
         text.find(' ') == text.npos;
}

std::string selinux_word(std::string_view text) {
  const std::string word = lower_case(text);
  return word == "enforcing" || word == "permissive" || word == "disabled" ? word : "";
}

}  // namespace

void LineReader::add(Fact fact, std::string value, const SeenAt& at) {
  if (value.empty() || value == "unknown") return;
  out_.facts[fact].push_back({std::move(value), at});
}

void LineReader::property(const std::string& name, const std::string& value, const SeenAt& at) {
  for (const NameRow& row : kNames)
    if (row.name == name && (row.value.empty() || row.value == value))
      add(row.fact, row.value.empty() ? value : std::string(row.says), at);
  const auto known = property_fact(name, value);
  if (!known) return;
  const auto* const row = std::ranges::find(kKeys, known->key, &KeyRow::key);
  if (row == kKeys.end()) return;
  if (is_ranked(row->fact)) {
    const auto before = ranks_.find(row->fact);
    if (before != ranks_.end() && before->second < known->rank) return;
    if (before != ranks_.end() && before->second > known->rank) out_.facts.erase(row->fact);
    ranks_[row->fact] = known->rank;
  }
  add(row->fact, known->value, at);
}

LineKind LineReader::bracketed(std::string_view text, const SeenAt& at) {
  const std::size_t middle = text.find("]: [");
  const std::size_t close = text.rfind(']');
  if (middle == text.npos || close < middle + 4) return LineKind::Unknown;
  const std::size_t open = text.rfind('[', middle);
  if (open == text.npos) return LineKind::Unknown;
  const std::string name(text.substr(open + 1, middle - open - 1));
  if (!is_name(name)) return LineKind::Unknown;
  const std::string value(text.substr(middle + 4, close - middle - 4));
  SeenAt here = at;
  here.kind = LineKind::Property;
  out_.properties[name] = {value, here};
  property(name, value, here);
  return here.kind;
}

LineKind LineReader::kernel(std::string_view text, const SeenAt& at) {
  constexpr std::string_view kVersion = "Linux version ", kName = "Linux ";
  SeenAt here = at;
  if (here.kind == LineKind::Unknown) here.kind = LineKind::Kernel;
  std::string_view rest;
  if (const std::size_t found = text.find(kVersion); found != text.npos) {
    rest = text.substr(found + kVersion.size());
  } else if (text.starts_with(kName)) {
    rest = text.substr(kName.size());
    const std::size_t blank = rest.find(' ');
    if (blank == rest.npos) return LineKind::Unknown;
    rest = trimmed(rest.substr(blank));  // behind the host's name
  } else {
    return LineKind::Unknown;
  }
  const std::string_view release = rest.substr(0, rest.find(' '));
  if (release.empty() || release.front() < '0' || release.front() > '9') return LineKind::Unknown;
  add(Fact::Kernel, std::string(release), here);
  if (const std::size_t build = rest.find(" #"); build != rest.npos) {
    std::string_view said = trimmed(rest.substr(build));
    // uname adds the processor and the system's name.
    for (const std::string_view end : {"GNU/Linux", "Toybox", "Android", "aarch64", "armv8l",
                                       "armv7l", "x86_64", "i686", "riscv64", "unknown"})
      if (said.ends_with(end)) said = trimmed(said.substr(0, said.size() - end.size()));
    add(Fact::KernelBuild, std::string(said), here);
  }
  return LineKind::Kernel;
}

LineKind LineReader::user(std::string_view text, const SeenAt& at) {
  const std::size_t found = text.find("uid=");
  const std::size_t open = found == text.npos ? found : text.find('(', found);
  const std::size_t close = open == text.npos ? open : text.find(')', open);
  if (close == text.npos || (found > 0 && text[found - 1] != ' ')) return LineKind::Unknown;
  const std::string_view number = text.substr(found + 4, open - found - 4);
  if (number.empty() || number.find_first_not_of("0123456789") != number.npos)
    return LineKind::Unknown;
  SeenAt here = at;
  here.kind = LineKind::User;
  // A shell without rights says nothing of whether there is root: somebody may not have asked.
  if (number == "0") add(Fact::User, "root", here);
  return here.kind;
}

LineKind LineReader::mount(std::string_view text, const SeenAt& at) {
  const std::vector<std::string_view> all = split_words(text);
  SeenAt here = at;
  here.kind = LineKind::Mount;
  constexpr std::size_t kWords = 6;
  SeenMount out;
  if (all.size() == kWords && all[1] == "on" && all[3] == "type")
    out = {std::string(all[0]), std::string(all[2]), std::string(all[4]),
           std::string(all[5].substr(1, all[5].size() - 2)), here};
  else if (all.size() == kWords && all[1].starts_with('/') && all[4] == "0" && all[5] == "0")
    out = {std::string(all[0]), std::string(all[1]), std::string(all[2]), std::string(all[3]),
           here};
  else
    return LineKind::Unknown;
  out_.mounts.push_back(std::move(out));
  return here.kind;
}

void LineReader::word(std::string_view text, const SeenAt& at) {
  const std::size_t equals = text.find('=');
  const std::string name(text.substr(0, equals));
  const std::string value(equals == text.npos ? "" : unquoted(text.substr(equals + 1)));
  out_.words[name] = {value, at};
  if (const std::string own = as_property(name); !own.empty()) property(own, value, at);
  if (name == "enforcing") add(Fact::Selinux, value == "0" ? "permissive" : "enforcing", at);
}

void LineReader::words(std::string_view line, const SeenAt& at) {
  for (const std::string& one : words::split(line))
    word(one, at);
}

LineKind LineReader::configured(std::string_view text, const SeenAt& at) {
  const std::size_t equals = text.find(" = ");
  if (equals == text.npos || !is_name(text.substr(0, equals)) || text.find('.') > equals)
    return LineKind::Unknown;
  SeenAt here = at;
  here.kind = LineKind::BootConfig;
  const std::string name(text.substr(0, equals));
  const std::string value(unquoted(trimmed(text.substr(equals + 3))));
  out_.words[name] = {value, here};
  if (const std::string own = as_property(name); !own.empty()) property(own, value, here);
  return here.kind;
}

LineKind LineReader::command_line(std::string_view text, const SeenAt& at) {
  const std::vector<std::string> all = words::split(text);
  const auto is_word = [](std::string_view one) {
    return one.starts_with("androidboot.") || one.starts_with("console=");
  };
  if (all.empty() || std::ranges::none_of(all, is_word)) return LineKind::Unknown;
  // A sentence that names one such word is none.
  const auto equals =
      std::ranges::count_if(all, [](std::string_view one) { return one.find('=') != one.npos; });
  if (static_cast<std::size_t>(equals) * 2 < all.size()) return LineKind::Unknown;
  SeenAt here = at;
  here.kind = LineKind::CommandLine;
  words(text, here);
  return here.kind;
}

LineKind LineReader::alone(std::string_view text, const SeenAt& at) {
  SeenAt here = at;
  here.kind = LineKind::Answer;
  if (const std::string word = selinux_word(text); !word.empty()) {
    add(Fact::Selinux, word, here);
    return here.kind;
  }
  if (is_fingerprint(text)) {
    add(Fact::Fingerprint, std::string(text), here);
    return here.kind;
  }
  return LineKind::Unknown;
}

LineKind LineReader::named(std::string_view text, const SeenAt& at) {
  constexpr std::string_view kBefore = "(bootloader)";
  const bool marked = text.starts_with(kBefore);
  const auto [name, value] = name_and_value(text);
  if (!is_name(name)) return LineKind::Unknown;
  SeenAt here = at;
  const std::size_t equals = text.find('='), colon = text.find(':');
  if (!marked && equals < colon && is_known_name(name)) {
    const bool setting = name.find('.') == name.npos;
    here.kind = setting ? LineKind::Setting : LineKind::Property;
    out_.properties[name] = {value, here};
  } else if (marked || is_variable(name)) {
    here.kind = LineKind::Variable;
    out_.variables[name] = {value, here};
  } else {
    return LineKind::Unknown;
  }
  property(name, value, here);
  return here.kind;
}

LineKind LineReader::answer(std::string_view command, std::string_view text, const SeenAt& at) {
  const std::vector<std::string_view> all = split_words(command);
  SeenAt here = at;
  here.kind = LineKind::Answer;
  const auto behind = [&](std::string_view word) -> std::string_view {
    for (std::size_t i = 0; i + 1 < all.size(); ++i)
      if (all[i] == word) return all[i + 1];
    return {};
  };
  const bool one_word = text.find(' ') == text.npos;
  if (const std::string_view name = behind("getprop"); !name.empty()) {
    out_.properties[std::string(name)] = {std::string(text), here};
    property(std::string(name), std::string(text), here);
    return here.kind;
  }
  for (const std::string_view table : {"global", "secure", "system"}) {
    const std::string_view name = behind(table);
    if (name.empty() || !one_word || command.find("settings get") == command.npos) continue;
    here.kind = LineKind::Setting;
    // What nobody has set is as the system has it: updates come by themselves.
    const bool unset = text == "null" && name == "ota_disable_automatic_update";
    property(std::string(name), unset ? "0" : std::string(text), here);
    return here.kind;
  }
  if (command.find("PAGE_SIZE") != command.npos || command.find("PAGESIZE") != command.npos) {
    if (!parse_number(text)) return LineKind::Unknown;
    add(Fact::PageSize, std::string(text), here);
    return here.kind;
  }
  if (command.ends_with("uname -r") && one_word) {
    add(Fact::Kernel, std::string(text), here);
    return here.kind;
  }
  if (command.find("/proc/cmdline") != command.npos) {
    here.kind = LineKind::CommandLine;
    words(text, here);
    return here.kind;
  }
  return LineKind::Unknown;
}

void LineReader::log(std::string_view text, const SeenAt& at) {
  SeenAt here = at;
  here.kind = LineKind::Log;
  (void)kernel(text, here);
  constexpr std::string_view kLine = "Kernel command line: ";
  if (const std::size_t found = text.find(kLine); found != text.npos)
    words(text.substr(found + kLine.size()), here);
  if (text.find("old_enforcing=") != text.npos) {
    const std::size_t found = text.find(" enforcing=");
    if (found != text.npos && found + 11 < text.size())
      add(Fact::Selinux, text[found + 11] == '1' ? "enforcing" : "permissive", here);
  }
  // A refusal that was carried out: whatever asked was held by the policy.
  if (text.find("avc:") != text.npos && text.find("permissive=0") != text.npos)
    add(Fact::Selinux, "enforcing", here);
  if (text.find("sys.boot_completed=1") != text.npos || text.starts_with("system: up"))
    add(Fact::Started, "yes", here);
  if (text.starts_with("system: the data is read")) add(Fact::Data, "kept", here);
  if (text.starts_with("system: the user's data is set up anew")) add(Fact::Data, "new", here);
  sign(text, here);
}

bool LineReader::sign(std::string_view text, const SeenAt& at) {
  const auto found = log_sign_of(text);
  if (!found) return false;
  SeenAt here = at;
  here.kind = LineKind::Log;
  out_.signs.push_back({*found, std::string(text), here});
  if (*found == LogSign::DataKeys) add(Fact::Data, "unreadable", here);
  return true;
}

}  // namespace wexlo
