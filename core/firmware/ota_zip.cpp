#include "firmware/ota_zip.hpp"

#include <fmt/format.h>

#include <charconv>

#include "firmware/payload.hpp"

namespace wexlo {
namespace {

constexpr std::string_view kPayload = "payload.bin";
constexpr std::string_view kMetadata = "META-INF/com/android/metadata";
constexpr std::uint64_t kMaxMetadata = 1u << 20;

/// `key=value` lines.
std::map<std::string, std::string> key_values(std::string_view text) {
  std::map<std::string, std::string> out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    std::string_view line = text.substr(0, end);
    text.remove_prefix(std::min(end + 1, text.size()));
    if (line.ends_with('\r')) line.remove_suffix(1);
    const std::size_t equals = line.find('=');
    if (equals != std::string_view::npos)
      out.emplace(line.substr(0, equals), line.substr(equals + 1));
  }
  return out;
}

Status read_metadata(const ZipArchive& zip, BuildFacts& build, bool& incremental) {
  const ZipMember* member = zip.find(kMetadata);
  if (member == nullptr) return {};
  WEXLO_TRY(const Bytes raw, zip.read(*member, kMaxMetadata));
  const auto values = key_values(as_text(raw));
  const auto take = [&](const char* key, std::string& into) {
    if (const auto at = values.find(key); at != values.end()) into = at->second;
  };
  take("post-build", build.fingerprint);
  take("post-build-incremental", build.incremental);
  take("pre-device", build.device);
  take("post-security-patch-level", build.patch_level);
  std::string time;
  take("post-timestamp", time);
  std::uint64_t seconds = 0;
  if (const auto [end, bad] = std::from_chars(time.data(), time.data() + time.size(), seconds);
      bad == std::errc() && !time.empty())
    build.timestamp = seconds;
  incremental |= values.contains("pre-build-incremental");
  return {};
}

}  // namespace

Result<std::unique_ptr<Firmware>> open_ota_zip(SourcePtr source) {
  const std::string name = source->name();
  WEXLO_TRY(const auto zip, ZipArchive::open(std::move(source)));
  const ZipMember* member = zip->find(kPayload);
  if (member == nullptr)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a zip without payload.bin is not supported yet",
                 .file = name,
                 .found = fmt::format("{} other members", zip->members().size()),
                 .hint = "Unpack the zip and give the image inside it."});
  WEXLO_TRY(auto payload, zip->window(*member));
  WEXLO_TRY(auto firmware, open_payload(std::move(payload)));
  WEXLO_CHECK(read_metadata(*zip, firmware->build_, firmware->incremental_));
  firmware->layers_.insert(firmware->layers_.begin(),
                           {"zip", fmt::format("{} members", zip->members().size())});
  return firmware;
}

}  // namespace wexlo
