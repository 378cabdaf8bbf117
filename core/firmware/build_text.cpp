#include "firmware/build_text.hpp"

#include <algorithm>
#include <charconv>
#include <map>

#include "archive/bundle.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kMetadata = "META-INF/com/android/metadata";
constexpr std::string_view kScript = "META-INF/com/google/android/updater-script";
constexpr std::uint64_t kMaxStreamed = 32u << 20;
constexpr std::string_view kDemands = "android-info.txt", kAntiRollback = "anti_version.txt";

template <class F>
void each_line(std::string_view text, F&& take) {
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    std::string_view line = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    while (line.ends_with('\r') || line.ends_with(' '))
      line.remove_suffix(1);
    if (!line.empty()) take(line);
  }
}

/// `key=value` lines.
std::map<std::string, std::string, std::less<>> key_values(std::string_view text) {
  std::map<std::string, std::string, std::less<>> out;
  each_line(text, [&](std::string_view line) {
    const std::size_t equals = line.find('=');
    if (equals != line.npos && line[0] != '#')
      out.emplace(line.substr(0, equals), line.substr(equals + 1));
  });
  return out;
}

/// The first of several keys that is there.
std::string first_of(const std::map<std::string, std::string, std::less<>>& values,
                     std::initializer_list<std::string_view> keys) {
  for (const std::string_view key : keys)
    if (const auto at = values.find(key); at != values.end() && !at->second.empty())
      return at->second;
  return {};
}

void read_ota_metadata(std::string_view text, BuildText& out) {
  const auto values = key_values(text);
  out.over_the_air = true;
  out.build.fingerprint = first_of(values, {"post-build"});
  out.build.incremental = first_of(values, {"post-build-incremental"});
  out.build.device = out.build.checked_device = first_of(values, {"pre-device"});
  out.build.patch_level = first_of(values, {"post-security-patch-level"});
  out.build.sdk_level = first_of(values, {"post-sdk-level"});
  out.build.base = first_of(values, {"pre-build"});
  out.incremental = values.contains("pre-build-incremental");
  if (!out.incremental) out.build.base.clear();
  const std::string time = first_of(values, {"post-timestamp"});
  std::uint64_t seconds = 0;
  if (std::from_chars(time.data(), time.data() + time.size(), seconds).ec == std::errc() &&
      !time.empty())
    out.build.timestamp = seconds;
  for (const char* key : {"ota-wipe", "ota-downgrade", "spl-downgrade"})
    if (const std::string value = first_of(values, {key}); value == "yes")
      out.build.demands.push_back(std::string(key) + "=yes");
}

/// `require NAME=V1|V2`, `require-for-product:P NAME=V`, `reject NAME=V`.
void read_demands(std::string_view text, BuildText& out) {
  each_line(text, [&](std::string_view line) {
    if (line.starts_with('#')) return;
    out.build.demands.emplace_back(line.substr(0, 300));
    if (!line.starts_with("require ")) return;
    line.remove_prefix(8);
    const std::size_t equals = line.find('=');
    if (equals == line.npos) return;
    const std::string_view name = line.substr(0, equals);
    const std::string value(line.substr(equals + 1));
    if (name == "board" || name == "product") out.build.device = out.build.checked_device = value;
    if (name == "version-baseband") out.build.baseband = value;
    if (name == "version-bootloader") out.build.bootloader = value;
  });
}

void read_properties(std::string_view text, BuildText& out) {
  const auto values = key_values(text);
  out.build.fingerprint =
      first_of(values, {"ro.build.fingerprint", "ro.system.build.fingerprint",
                        "ro.vendor.build.fingerprint", "ro.bootimage.build.fingerprint"});
  out.build.device = first_of(values, {"ro.product.device", "ro.product.system.device",
                                       "ro.product.vendor.device", "ro.build.product"});
  out.build.patch_level =
      first_of(values, {"ro.build.version.security_patch", "ro.vendor.build.security_patch"});
  out.build.incremental = first_of(values, {"ro.build.version.incremental"});
  out.build.region = first_of(values, {"ro.boot.hwc", "ro.csc.sales_code"});
  out.build.baseband = first_of(values, {"gsm.version.baseband", "ro.build.expect.baseband"});
  out.build.bootloader = first_of(values, {"ro.bootloader", "ro.build.expect.bootloader"});
}

/// A file that holds one number: the maker's own against going back.
void read_anti_rollback(std::string_view text, BuildText& out) {
  std::uint64_t value = 0;
  const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), value);
  const std::string_view rest = text.substr(static_cast<std::size_t>(end - text.data()));
  if (bad == std::errc() && rest.find_first_not_of(" \t\r\n") == rest.npos)
    out.build.anti_rollback = value;
}

/// A script of an older package asks for the phone it is made for.
void read_script(std::string_view text, BuildText& out) {
  out.over_the_air = true;
  out.patches = read_script_patches(text);
  for (const std::string_view key : {"ro.product.device", "ro.build.product"}) {
    const std::size_t at = text.find(key);
    if (at == text.npos) continue;
    const std::size_t equals = text.find("==", at);
    if (equals == text.npos || equals - at > 60) continue;
    const std::size_t open = text.find('"', equals);
    if (open == text.npos || open - equals > 4) continue;
    const std::size_t close = text.find('"', open + 1);
    if (close == text.npos || close - open > 64) continue;
    out.build.device = out.build.checked_device = text.substr(open + 1, close - open - 1);
    return;
  }
}

void take_properties(const Image& vbmeta, BuildFacts& build) {
  const auto all = verified::descriptors(vbmeta);
  if (!all) return;
  for (const verified::Descriptor& one : *all) {
    const auto* property = std::get_if<verified::PropertyDescriptor>(&one.value);
    if (property == nullptr || !property->key.starts_with("com.android.build.")) continue;
    if (property->key.ends_with(".fingerprint") && build.fingerprint.empty())
      build.fingerprint = property->value;
    if (property->key.ends_with(".security_patch") && build.patch_level.empty())
      build.patch_level = property->value;
  }
}

/// Out of the fingerprint, `maker/product/device:…`.
void take_device(BuildFacts& build) {
  const std::string& print = build.fingerprint;
  const std::size_t colon = print.find(':');
  if (!build.device.empty() || colon == print.npos) return;
  const std::size_t slash = print.find_last_of('/', colon);
  if (slash != print.npos) build.device = print.substr(slash + 1, colon - slash - 1);
}

/// The struct in a partition of its own, or the one that its footer points at; a few KiB are read.
/// @param shared  the stream that it comes out of holds others, too
std::optional<Bytes> vbmeta_of(const PartitionFacts& partition, bool shared) {
  const Context context;
  const auto start = partition.content->head(verified::kMaxVbmeta);
  if (start && verified::looks_like_vbmeta(*start)) return *start;
  // Where the end costs as much as all of it, it is looked at in small ones only.
  if (partition.content->parallel()) return std::nullopt;
  if (partition.content->stream() != nullptr && (shared || partition.size > kMaxStreamed))
    return std::nullopt;
  const auto source = partition.content->source(context);
  if (!source) return std::nullopt;
  const auto read = verified::read_footer(**source);
  if (!read || !*read) return std::nullopt;
  const verified::Footer& footer = **read;
  const std::uint64_t room = (*source)->size() - verified::kFooterSize;
  if (footer.vbmeta_size > kHeadBudget || footer.vbmeta_offset > room ||
      footer.vbmeta_size > room - footer.vbmeta_offset)
    return std::nullopt;
  const auto bytes = read_some(**source, footer.vbmeta_offset, footer.vbmeta_size);
  return bytes ? std::optional(*bytes) : std::nullopt;
}

}  // namespace

bool is_build_text(std::string_view path) {
  const std::string_view name = base_name(path);
  return path.ends_with(kMetadata) || path.ends_with(kScript) || name == kDemands ||
         name == kAntiRollback || name.ends_with(".prop");
}

BuildText read_build_text(std::string_view path, std::string_view text) {
  BuildText out;
  if (path.ends_with(kMetadata))
    read_ota_metadata(text, out);
  else if (path.ends_with(kScript))
    read_script(text, out);
  else if (base_name(path) == kDemands)
    read_demands(text, out);
  else if (base_name(path) == kAntiRollback)
    read_anti_rollback(text, out);
  else
    read_properties(text, out);
  return out;
}

std::span<const std::string_view> speaking_partitions() {
  // What covers the system first.
  static constexpr std::string_view kSpeaking[] = {"vbmeta_system", "vbmeta",      "init_boot",
                                                   "boot",          "vendor_boot", "recovery"};
  return kSpeaking;
}

void facts_from_image(View image, BuildFacts& build) {
  if (verified::looks_like_vbmeta(image)) {
    if (const auto vbmeta = verified::parse_vbmeta(Blob(to_bytes(image))))
      take_properties(*vbmeta, build);
  } else if (const auto own = verified::own_struct(image); own && *own) {
    take_properties(**own, build);
  }
  take_device(build);
}

void facts_from_images(Firmware& firmware) {
  for (const std::string_view wanted : speaking_partitions())
    for (const PartitionFacts& one : firmware.partitions) {
      if (!firmware.build.fingerprint.empty() && !firmware.build.patch_level.empty()) break;
      if (without_slot(one.name) != wanted) continue;
      const bool shared = std::ranges::any_of(firmware.partitions, [&](const auto& other) {
        return &other != &one && other.content->stream() == one.content->stream();
      });
      const auto bytes = vbmeta_of(one, shared);
      if (!bytes) continue;
      if (const auto vbmeta = verified::parse_vbmeta(Blob(*bytes)))
        take_properties(*vbmeta, firmware.build);
    }
  take_device(firmware.build);
}

}  // namespace wexlo
