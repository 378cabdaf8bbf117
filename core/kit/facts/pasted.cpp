#include "kit/facts/pasted.hpp"

#include <algorithm>
#include <array>

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

}  // namespace

std::pair<std::string, std::string> name_and_value(std::string_view line) {
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

std::optional<PropertyFact> property_fact(std::string_view name, std::string_view value) {
  const auto* const row = std::ranges::find(kProperties, name, &Property::name);
  if (row == kProperties.end()) return std::nullopt;
  return PropertyFact{row->key, in_our_words(name, row->key, value),
                      static_cast<std::size_t>(row - kProperties.begin())};
}

}  // namespace wexlo
