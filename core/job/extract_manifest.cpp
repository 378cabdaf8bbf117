/// extract.json: which images came from which package.

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "job/extract.hpp"

namespace wexlo {
namespace {

using Json = nlohmann::ordered_json;

/// The package's own name: where it lay is nobody's business.
std::string short_name(std::string name) {
  while (name.ends_with('/'))
    name.pop_back();
  return std::string(base_name(name));
}

Json build_json(const BuildFacts& build) {
  Json out = Json::object();
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
  Json shells = Json::array();
  for (const Layer& layer : firmware.layers)
    shells.push_back(layer.kind);
  Json out = {{"format", 1},
              {"firmware", short_name(firmware_name)},
              {"kind", firmware.kind},
              {"layers", std::move(shells)},
              {"package", firmware.incremental ? "incremental" : "full"},
              {"build", build_json(firmware.build)},
              {"partitions", Json::array()}};
  if (!before.empty()) {
    const Json old = Json::parse(before, nullptr, false);
    const bool ours = old.is_object() && old.value("format", 0) == 1 &&
                      old.contains("partitions") && old["partitions"].is_array();
    const auto differs = [&](const char* key) {
      return !old.contains(key) || old[key] != out[key];
    };
    if (!ours || differs("firmware") || differs("kind") || differs("build"))
      return fail({.code = ErrorCode::Exists,
                   .message = "the folder holds images of another package",
                   .file = std::string(kExtractManifest),
                   .expected = out["firmware"],
                   .found = ours && old.contains("firmware") && old["firmware"].is_string()
                                ? old["firmware"].get<std::string>()
                                : "something else",
                   .hint = "Give another folder, so that builds do not mix, or --force."});
    out["partitions"] = old["partitions"];
  }
  Json& rows = out["partitions"];
  for (const ExtractedPartition& one : extracted.partitions) {
    Json row = {
        {"name", one.name},         {"file", one.file.filename().string()},
        {"size", one.size},         {"sha256", one.sha256.empty() ? Json() : Json(one.sha256)},
        {"verified", one.verified}, {"proof", one.proof},
        {"from", one.from}};
    const auto same = std::find_if(rows.begin(), rows.end(), [&](const Json& old) {
      return old.is_object() && old.value("name", Json()) == one.name;
    });
    if (same == rows.end())
      rows.push_back(std::move(row));
    else
      *same = std::move(row);
  }
  // Names from a package may hold any bytes: what is no UTF-8 is replaced, never thrown.
  return out.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

}  // namespace wexlo
