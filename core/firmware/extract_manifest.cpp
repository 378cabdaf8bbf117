#include "firmware/extract_manifest.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "text/json_read.hpp"

namespace wexlo {
namespace {

using Library = nlohmann::ordered_json;

constexpr std::uint64_t kFormat = 1;
constexpr JsonLimits kLimits{.size = 4u << 20};

/// The package's own name: where it lay is nobody's business.
std::string short_name(std::string name) {
  while (name.ends_with('/'))
    name.pop_back();
  return std::string(base_name(name));
}

Library build_json(const BuildFacts& build) {
  Library out = Library::object();
  const auto put = [&](const char* key, const std::string& value) {
    if (!value.empty()) out[key] = value;
  };
  put("fingerprint", build.fingerprint);
  put("device", build.device);
  put("patch_level", build.patch_level);
  put("incremental", build.incremental);
  put("region", build.region);
  put("baseband", build.baseband);
  put("bootloader", build.bootloader);
  if (build.timestamp) out["timestamp"] = *build.timestamp;
  return out;
}

}  // namespace

Result<std::string> extract_manifest(const Firmware& firmware, const std::string& firmware_name,
                                     const Extracted& extracted, std::string_view before) {
  Library shells = Library::array();
  for (const Layer& layer : firmware.layers)
    shells.push_back(layer.kind);
  Library out = {{"format", 1},
                 {"firmware", short_name(firmware_name)},
                 {"kind", firmware.kind},
                 {"layers", std::move(shells)},
                 {"package", firmware.incremental ? "incremental" : "full"},
                 {"build", build_json(firmware.build)},
                 {"partitions", Library::array()}};
  if (!before.empty()) {
    const auto old = parse_extract_manifest(before, std::string(kExtractManifest));
    std::map<std::string, std::string> build;
    for (const auto& [key, value] : out["build"].items())
      build[key] = value.is_string() ? value.get<std::string>() : value.dump();
    const bool same = old && old->firmware == short_name(firmware_name) &&
                      old->kind == firmware.kind && old->build == build;
    if (!same)
      return fail({.code = ErrorCode::Exists,
                   .message = "the folder holds images of another package",
                   .file = std::string(kExtractManifest),
                   .expected = short_name(firmware_name),
                   .found = old ? old->firmware : describe(old.error()),
                   .hint = "Give another folder, so that builds do not mix, or --force."});
    // It reads: what stands there is carried as it is.
    out["partitions"] = Library::parse(before)["partitions"];
  }
  Library& rows = out["partitions"];
  for (const ExtractedPartition& one : extracted.partitions) {
    Library row = {{"name", one.name},
                   {"file", one.file.filename().string()},
                   {"size", one.size},
                   {"sha256", one.sha256.empty() ? Library() : Library(one.sha256)},
                   {"verified", one.verified},
                   {"proof", one.proof},
                   {"from", one.from}};
    const auto same = std::find_if(rows.begin(), rows.end(),
                                   [&](const Library& old) { return old["name"] == one.name; });
    if (same == rows.end())
      rows.push_back(std::move(row));
    else
      *same = std::move(row);
  }
  // Names from a package may hold any bytes: what is no UTF-8 is replaced, never thrown.
  return out.dump(2, ' ', false, Library::error_handler_t::replace) + "\n";
}

Result<ExtractManifest> parse_extract_manifest(std::string_view text, const std::string& file) {
  WEXLO_TRY(const JsonValue top, parse_json(text, file, kLimits));
  WEXLO_CHECK(check_format(top, file, "a list of images", kFormat));
  ExtractManifest out;
  WEXLO_TRY(out.firmware, top.text("firmware"));
  WEXLO_TRY(out.kind, top.text_or("kind", ""));
  WEXLO_CHECK(top.texts("layers"));
  WEXLO_CHECK(top.text_or("package", ""));
  WEXLO_TRY(const auto build, top.object_if("build"));
  if (build) {
    for (const char* key : {"fingerprint", "device", "patch_level", "incremental", "region",
                            "baseband", "bootloader"}) {
      WEXLO_TRY(std::string value, build->text_or(key, ""));
      if (!value.empty()) out.build[key] = std::move(value);
    }
    WEXLO_TRY(const auto timestamp, build->number_if("timestamp"));
    if (timestamp) out.build["timestamp"] = fmt::format("{}", *timestamp);
  }
  WEXLO_TRY(const auto rows, top.objects("partitions"));
  for (const JsonValue& row : rows) {
    ExtractedRow one;
    WEXLO_TRY(one.name, row.text("name"));
    WEXLO_TRY(one.file, row.text("file"));
    WEXLO_TRY(one.size, row.number("size"));
    WEXLO_TRY(one.sha256, row.text_or("sha256", ""));
    WEXLO_CHECK(row.flag_or("verified", false));
    WEXLO_CHECK(row.text_or("proof", ""));
    WEXLO_CHECK(row.text_or("from", ""));
    out.partitions.push_back(std::move(one));
  }
  return out;
}

}  // namespace wexlo
