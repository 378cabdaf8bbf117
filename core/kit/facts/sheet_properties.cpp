/// Properties of a running system and variables of a bootloader, as a sheet.

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>

#include "firmware/firmware.hpp"
#include "kit/facts/sheet.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

struct Property {
  std::string_view name, key;
};
/// Of several that say the same, the first is believed.
constexpr std::array kProperties{
    Property{"ro.product.device", "phone.codename"},
    Property{"ro.product.vendor.device", "phone.codename"},
    Property{"ro.product.odm.device", "phone.codename"},
    Property{"ro.build.product", "phone.codename"},
    Property{"product", "phone.product"},
    Property{"ro.product.model", "phone.model"},
    Property{"ro.product.vendor.model", "phone.model"},
    Property{"ro.boot.hardware.sku", "phone.variant"},
    Property{"ro.boot.product.hardware.sku", "phone.variant"},
    Property{"variant", "phone.variant"},
    Property{"ro.boot.hwc", "phone.region"},
    Property{"ro.csc.sales_code", "phone.region"},
    Property{"ro.soc.model", "phone.chipset"},
    Property{"ro.board.platform", "phone.chipset"},
    Property{"ro.product.cpu.abi", "phone.architecture"},
    Property{"ro.product.cpu.abilist", "phone.architecture"},
    Property{"ro.build.fingerprint", "build.fingerprint"},
    Property{"ro.system.build.fingerprint", "build.fingerprint"},
    Property{"ro.vendor.build.fingerprint", "build.fingerprint"},
    Property{"ro.build.version.security_patch", "build.patch_level"},
    Property{"ro.build.version.incremental", "build.incremental"},
    Property{"gsm.version.baseband", "build.baseband"},
    Property{"version-baseband", "build.baseband"},
    Property{"ro.bootloader", "build.bootloader"},
    Property{"ro.boot.bootloader", "build.bootloader"},
    Property{"version-bootloader", "build.bootloader"},
    Property{"ro.build.version.sdk", "build.sdk"},
    Property{"ro.boot.vbmeta.device_state", "state.lock"},
    Property{"ro.boot.flash.locked", "state.lock"},
    Property{"ro.boot.verifiedbootstate", "state.lock"},
    Property{"unlocked", "state.lock"},
    Property{"slot-count", "state.slots"},
    Property{"ro.build.ab_update", "state.slots"},
    Property{"current-slot", "state.current_slot"},
    Property{"ro.boot.slot_suffix", "state.current_slot"},
    Property{"ro.boot.slot", "state.current_slot"},
    Property{"snapshot-update-status", "state.update"},
    Property{"battery-level", "state.battery_percent"},
    Property{"battery-soc-ok", "state.battery_enough"},
    Property{"battery-voltage", "state.battery_millivolt"},
    Property{"max-download-size", "state.download_limit"},
    Property{"anti", "state.anti_rollback"},
};

std::string_view trimmed(std::string_view text) {
  constexpr std::string_view kBlank = " \t\r\n";
  const std::size_t begin = text.find_first_not_of(kBlank);
  if (begin == text.npos) return {};
  return text.substr(begin, text.find_last_not_of(kBlank) - begin + 1);
}

/// Of a list the first is the processor's own.
std::string architecture(std::string_view abi) {
  abi = abi.substr(0, abi.find(','));
  if (abi == "arm64-v8a") return "arm64";
  if (abi.starts_with("armeabi")) return "arm";
  return std::string(abi);
}

/// What the sheet's own words are for a value; empty: it says nothing.
std::string in_our_words(std::string_view name, std::string_view key, std::string_view value) {
  if (key == "phone.architecture") return architecture(value);
  if (name == "ro.boot.flash.locked")
    return value == "1" ? "locked" : value == "0" ? "unlocked" : "";
  if (name == "ro.boot.verifiedbootstate")
    return value == "orange" ? "unlocked" : value == "green" || value == "yellow" ? "locked" : "";
  if (name == "unlocked") return value == "yes" || value == "true" ? "unlocked" : "locked";
  if (name == "slot-count") return value == "2" ? "2" : "1";
  if (name == "ro.build.ab_update") return value == "true" ? "2" : "1";
  if (key == "state.current_slot") {
    if (value.starts_with('_')) value.remove_prefix(1);
    return value == "a" || value == "b" ? std::string(value) : "";
  }
  if (name == "battery-voltage") return std::string(value.substr(0, value.find("mV")));
  if (name == "battery-level") return std::string(value.substr(0, value.find('%')));
  // Two basebands of a phone with two cards are one version, said twice.
  if (name == "gsm.version.baseband") return std::string(value.substr(0, value.find(',')));
  return std::string(value);
}

/// The name of a bootloader's variable: of some a partition or a slot is a part, behind a colon.
std::size_t end_of_name(std::string_view line) {
  const std::size_t colon = line.find(':');
  if (colon == line.npos) return colon;
  constexpr std::array<std::string_view, 8> kOfSomething{
      "partition-size",  "partition-type",  "is-logical",       "has-slot",
      "slot-successful", "slot-unbootable", "slot-retry-count", "logical-block-size"};
  const bool more =
      std::ranges::find(kOfSomething, trimmed(line.substr(0, colon))) != kOfSomething.end();
  const std::size_t second = more ? line.find(':', colon + 1) : line.npos;
  return second == line.npos ? colon : second;
}

/// The line's name and value, whatever form it has; empty names: it is none.
std::pair<std::string, std::string> parted(std::string_view line) {
  line = trimmed(line);
  if (line.starts_with('[')) {
    const std::size_t close = line.find("]:");
    const std::size_t open = close == line.npos ? close : line.find('[', close);
    if (open == line.npos || !line.ends_with(']')) return {};
    return {std::string(line.substr(1, close - 1)),
            std::string(trimmed(line.substr(open + 1, line.size() - open - 2)))};
  }
  // A tool's own word before a bootloader's line: "(…) product: gnomon".
  if (line.starts_with('(')) {
    const std::size_t close = line.find(')');
    if (close != line.npos) line = trimmed(line.substr(close + 1));
  }
  const std::size_t equals = line.find('=');
  const std::size_t colon = end_of_name(line);
  const std::size_t end = equals < colon ? equals : colon;
  if (end == line.npos) return {};
  const std::string_view name = trimmed(line.substr(0, end));
  if (name.find(' ') != name.npos) return {};
  return {std::string(name), std::string(trimmed(line.substr(end + 1)))};
}

/// A console's redirection may have written two bytes a character; properties are ASCII.
std::string in_ascii(std::string_view text) {
  const bool little = text.starts_with("\xff\xfe"), big = text.starts_with("\xfe\xff");
  if (!little && !big) return std::string(text.starts_with("\xef\xbb\xbf") ? text.substr(3) : text);
  std::string out;
  for (std::size_t i = 2; i + 1 < text.size(); i += 2) {
    const char low = text[little ? i : i + 1], high = text[little ? i + 1 : i];
    out += high == 0 && static_cast<unsigned char>(low) < 0x80 ? low : '?';
  }
  return out;
}

/// What does not suit its key is left out: pasted text is no sheet.
void put(Sheet& out, std::string_view key, std::string value, std::string source) {
  if (!out.facts.contains(key)) out.set(key, std::move(value), std::move(source));
}

struct Sizes {
  std::map<std::string, std::uint64_t> all;
  std::set<std::string> logical;
};

void take_partition(const std::string& name, const std::string& value, Sizes& out) {
  constexpr std::string_view kSize = "partition-size:", kLogical = "is-logical:";
  const std::size_t colon = name.find(':');
  if (colon == name.npos || !check_partition_name(name.substr(colon + 1))) return;
  if (name.starts_with(kLogical) && value == "yes")
    out.logical.insert(name.substr(kLogical.size()));
  if (!name.starts_with(kSize) || value.empty()) return;
  const auto size = parse_hex(value);
  if (size && *size > 0) out.all[name.substr(kSize.size())] = *size;
}

}  // namespace

Sheet sheet_from_properties(std::string_view pasted, const std::string& source) {
  const std::string lines = in_ascii(pasted);
  std::string_view text = lines;
  std::map<std::string, std::string> said;
  Sizes sizes;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    auto [name, value] = parted(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
    take_partition(name, value, sizes);
    if (!name.empty()) said.emplace(std::move(name), std::move(value));
  }
  Sheet out;
  for (const Property& one : kProperties)
    if (const auto at = said.find(std::string(one.name)); at != said.end())
      put(out, one.key, in_our_words(one.name, one.key, at->second),
          std::string(one.name) + " in " + source);
  // A phone with one slot names none.
  if (const auto slot = out.facts.find("state.current_slot"); slot != out.facts.end())
    put(out, "state.slots", "2", slot->second.source);
  for (const auto& [name, size] : sizes.all) {
    if (sizes.logical.contains(name))
      out.logical.push_back({name, size, {}});
    else
      out.partitions.emplace(name, size);
    const auto super = said.find("super-partition-name");
    if (name == (super == said.end() ? "super" : super->second))
      put(out, "super.size", std::to_string(size),
          fmt::format("partition-size:{} in {}", name, source));
  }
  return out;
}

}  // namespace wexlo
