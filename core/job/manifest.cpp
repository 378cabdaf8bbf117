#include "job/manifest.hpp"

#include <nlohmann/json.hpp>

namespace wexlo {
namespace {

using Json = nlohmann::ordered_json;

Json edits_json(const Patched& patched) {
  Json out = Json::array();
  for (const EditReport& edit : patched.edits) {
    if (edit.outcome == Outcome::Elsewhere) continue;
    out.push_back({{"recipe", edit.recipe},
                   {"kind", edit.kind},
                   {"summary", edit.summary},
                   {"outcome", outcome_name(edit.outcome)},
                   {"details", edit.details}});
  }
  return out;
}

Json image_json(const PreparedImage& image) {
  Json ranges = Json::array();
  for (const ChangedRange& range : image.patched.ranges)
    ranges.push_back({{"offset", range.offset},
                      {"size", range.size},
                      {"region", range.region},
                      {"cause", range.cause}});
  return {{"partition", image.partition},
          {"flash",
           {{"file", image.files.flash_file},
            {"size", image.files.size},
            {"sha256", image.files.flash_sha256}}},
          {"stock",
           {{"file", image.files.stock_file},
            {"size", image.files.stock_size},
            {"sha256", image.files.stock_sha256}}},
          {"edits", edits_json(image.patched)},
          {"entries", image.patched.entries},
          {"ranges", ranges}};
}

}  // namespace

std::string kit_manifest(const Prepared& prepared, const std::string& firmware_name,
                         const std::string& plan_sha256) {
  Json images = Json::array();
  for (const PreparedImage& image : prepared.images)
    if (image.flashed) images.push_back(image_json(image));
  const Json manifest = {
      {"format", 1},
      {"device", prepared.build.device},
      {"build", prepared.build.fingerprint},
      {"patch_level", prepared.build.patch_level},
      {"firmware", firmware_name},
      {"target", prepared.target.partition},
      {"reason", prepared.target.reason},
      {"images", images},
      {"plan", {{"file", "plan.toml"}, {"sha256", plan_sha256}}},
  };
  // Names from a package may hold any bytes: what is no UTF-8 is replaced, never thrown.
  return manifest.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

}  // namespace wexlo
