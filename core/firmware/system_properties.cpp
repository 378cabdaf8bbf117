#include "firmware/system_properties.hpp"

#include <algorithm>

#include "base/source.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMaxScanned = std::uint64_t{8} << 30;

void take_property(std::string_view line, SystemProperties& out) {
  const std::size_t equals = line.find('=');
  if (equals == line.npos) return;
  const std::string_view key = line.substr(0, equals);
  const std::string value(line.substr(equals + 1));
  if (key == "ro.product.cpu.abi" || key == "ro.system.product.cpu.abilist" ||
      key == "ro.product.cpu.abilist") {
    if (out.architecture.empty())
      out.architecture = value.starts_with("arm64")     ? "arm64"
                         : value.starts_with("armeabi") ? "arm"
                         : value.starts_with("x86_64")  ? "x86_64"
                         : value.starts_with("x86")     ? "x86"
                                                        : "";
  } else if (key == "ro.build.ab_update") {
    if (!out.slotted) out.slotted = value == "true";
  } else if (key == "ro.build.fingerprint" || key == "ro.system.build.fingerprint") {
    if (out.build.fingerprint.empty()) out.build.fingerprint = value;
  } else if (key == "ro.build.version.security_patch") {
    if (out.build.patch_level.empty()) out.build.patch_level = value;
  }
}

bool is_known(const SystemProperties& given) {
  return !given.architecture.empty() && given.slotted && !given.build.fingerprint.empty() &&
         !given.build.patch_level.empty();
}

}  // namespace

Result<SystemProperties> scan_system(const Source& source, const Context& context) {
  SystemProperties out;
  constexpr std::uint64_t kChunk = 4u << 20, kOverlap = 256;
  const std::uint64_t end = std::min(source.size(), kMaxScanned);
  for (std::uint64_t at = 0; at < end && !is_known(out);) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(const Stretch stretch, source.stretch_at(at));
    if (stretch.hole) {
      at += stretch.size;
      continue;
    }
    WEXLO_TRY(const Bytes bytes, read_some(source, at, kChunk + kOverlap));
    const std::string_view text = as_text(bytes);
    for (std::size_t found = text.find("ro."); found < kChunk && found != text.npos;
         found = text.find("ro.", found + 1)) {
      // The first line of a file stands behind whatever ends the block before.
      if (found > 0 && text[found - 1] != '\n' && text[found - 1] != '\0') continue;
      const std::string_view rest = text.substr(found, kOverlap);
      const std::size_t line = rest.find('\n');
      if (line != rest.npos) take_property(rest.substr(0, line), out);
    }
    at += kChunk;
  }
  return out;
}

}  // namespace wexlo
