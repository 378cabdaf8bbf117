/// Properties of a running system and variables of a bootloader, as a sheet.

#include <algorithm>
#include <array>
#include <set>

#include "kit/sheet.hpp"

namespace wexlo {
namespace {

struct Property {
  std::string_view name, key;
};
/// Of several that say the same, the first is believed.
constexpr std::array kProperties{
    Property{"ro.product.device", "phone.codename"},
    Property{"ro.product.vendor.device", "phone.codename"},
    Property{"ro.build.product", "phone.codename"},
    Property{"product", "phone.product"},
    Property{"ro.product.model", "phone.model"},
    Property{"ro.product.vendor.model", "phone.model"},
    Property{"ro.boot.hardware.sku", "phone.variant"},
    Property{"ro.boot.product.hardware.sku", "phone.variant"},
    Property{"variant", "phone.variant"},
    Property{"ro.boot.hwc", "phone.region"},
    Property{"ro.csc.sales_code", "phone.region"},
    Property{"ro.product.locale.region", "phone.region"},
    Property{"ro.soc.model", "phone.chipset"},
    Property{"ro.board.platform", "phone.chipset"},
    Property{"ro.product.cpu.abi", "phone.architecture"},
    Property{"ro.build.fingerprint", "build.fingerprint"},
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
    Property{"unlocked", "state.lock"},
    Property{"slot-count", "state.slots"},
    Property{"ro.build.ab_update", "state.slots"},
    Property{"current-slot", "state.current_slot"},
    Property{"ro.boot.slot_suffix", "state.current_slot"},
    Property{"snapshot-update-status", "state.update"},
    Property{"battery-level", "state.battery_percent"},
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

std::string architecture(std::string_view abi) {
  if (abi == "arm64-v8a") return "arm64";
  if (abi.starts_with("armeabi")) return "arm";
  return std::string(abi);
}

/// What the sheet's own words are for a value; empty: it says nothing.
std::string in_our_words(std::string_view name, std::string_view key, std::string_view value) {
  if (key == "phone.architecture") return architecture(value);
  if (name == "ro.boot.flash.locked")
    return value == "1" ? "locked" : value == "0" ? "unlocked" : "";
  if (name == "unlocked") return value == "yes" || value == "true" ? "unlocked" : "locked";
  if (name == "slot-count") return value == "2" ? "2" : "1";
  if (name == "ro.build.ab_update") return value == "true" ? "2" : "1";
  if (key == "state.current_slot") {
    if (value.starts_with('_')) value.remove_prefix(1);
    return value == "a" || value == "b" ? std::string(value) : "";
  }
  // Two basebands of a phone with two cards are one version, said twice.
  if (name == "gsm.version.baseband") return std::string(value.substr(0, value.find(',')));
  return std::string(value);
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
  if (equals != line.npos && line.substr(0, equals).find(' ') == line.npos)
    return {std::string(trimmed(line.substr(0, equals))),
            std::string(trimmed(line.substr(equals + 1)))};
  // Names of bootloader variables hold colons themselves; values do not begin with letters of one.
  const std::size_t colon = line.rfind(':');
  if (colon == line.npos) return {};
  return {std::string(trimmed(line.substr(0, colon))),
          std::string(trimmed(line.substr(colon + 1)))};
}

/// Checked as any sheet is: what does not suit its key is left out.
void put(Sheet& out, std::string_view key, const std::string& value, const std::string& source) {
  if (value.empty() || out.facts.contains(key)) return;
  const std::size_t dot = key.find('.');
  const std::string text = "[" + std::string(key.substr(0, dot)) + "]\n" +
                           std::string(key.substr(dot + 1)) + " = '''" + value + "'''\n";
  if (value.find("'''") != value.npos) return;
  auto one = parse_sheet(text, source);
  if (!one) return;
  for (auto& [name, known] : one->facts) {
    known.source = source;
    out.facts.emplace(name, known);
  }
}

struct Sizes {
  std::map<std::string, std::uint64_t> all;
  std::set<std::string> logical;
};

void take_partition(const std::string& name, const std::string& value, Sizes& out) {
  constexpr std::string_view kSize = "partition-size:", kLogical = "is-logical:";
  if (name.starts_with(kLogical) && value == "yes")
    out.logical.insert(name.substr(kLogical.size()));
  if (!name.starts_with(kSize) || value.empty()) return;
  // Hexadecimal, with or without 0x.
  char* end = nullptr;
  const std::uint64_t size = std::strtoull(value.c_str(), &end, 16);
  if (*end == '\0') out.all[name.substr(kSize.size())] = size;
}

}  // namespace

Sheet sheet_from_properties(std::string_view text, const std::string& source) {
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
  for (const auto& [name, size] : sizes.all) {
    if (sizes.logical.contains(name))
      out.logical.push_back({name, size, {}});
    else
      out.partitions.emplace(name, size);
    if (name == "super")
      put(out, "super.size", std::to_string(size), "partition-size:super in " + source);
  }
  return out;
}

}  // namespace wexlo
