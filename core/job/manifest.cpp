#include "job/manifest.hpp"

#include <nlohmann/json.hpp>

namespace wexlo {
namespace {

using Json = nlohmann::ordered_json;

Json edits_json(const Patched& patched) {
  Json out = Json::array();
  for (const auto* list : {&patched.edits, &patched.added})
    for (const EditReport& edit : *list) {
      if (edit.outcome == Outcome::Elsewhere) continue;
      Json effects = Json::array();
      for (const Effect& effect : edit.effects)
        effects.push_back({{"where", effect.where},
                           {"before", effect.before},
                           {"after", effect.after},
                           {"diff", effect.diff}});
      out.push_back({{"recipe", edit.recipe},
                     {"kind", edit.kind},
                     {"summary", edit.summary},
                     {"outcome", outcome_name(edit.outcome)},
                     {"why", edit.why},
                     {"details", edit.details},
                     {"effects", effects}});
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
  return {
      {"partition", image.partition},
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
      {"ranges", ranges},
      {"way_back",
       {{"in_image", image.patched.way_back.in_image}, {"reason", image.patched.way_back.reason}}}};
}

Json recipes_json(const std::vector<KitRecipe>& recipes) {
  Json out = Json::array();
  for (const KitRecipe& recipe : recipes) {
    Json files = Json::array();
    for (const KitRecipe::File& file : recipe.files)
      files.push_back({{"spelled", file.spelled},
                       {"path", file.path},
                       {"file", file.file},
                       {"sha256", file.sha256}});
    out.push_back({{"name", recipe.name},
                   {"file", recipe.file},
                   {"sha256", recipe.sha256},
                   {"given", Json(recipe.given)},
                   {"files", files}});
  }
  return out;
}

Json chain_json(const std::vector<ImageFacts>& chain) {
  Json out = Json::array();
  for (const ImageFacts& facts : chain)
    out.push_back({{"partition", facts.partition},
                   {"kernel", facts.kernel},
                   {"cmdline", facts.cmdline},
                   {"init", facts.init},
                   {"fstabs", Json(facts.fstabs)},
                   {"left", facts.left_known ? Json(facts.left) : Json()}});
  return out;
}

}  // namespace

std::string kit_manifest(const Prepared& prepared, const PrepareOptions& options,
                         const std::string& firmware_name, const std::string& plan_sha256) {
  Json images = Json::array();
  for (const PreparedImage& image : prepared.images)
    if (image.flashed) images.push_back(image_json(image));
  Json manifest = {
      {"format", 1},
      {"device", prepared.build.device},
      {"build", prepared.build.fingerprint},
      {"patch_level", prepared.build.patch_level},
      {"firmware", firmware_name},
      {"target", prepared.target.partition},
      {"reason", prepared.target.reason},
      {"layout", layout_name(prepared.target.layout)},
      {"images", images},
      {"verification",
       {{"needs", prepared.verification.needs},
        {"why", prepared.verification.why},
        {"locked", prepared.verification.locked ? "starts" : "refuses"},
        {"unlocked", prepared.verification.unlocked ? "starts" : "refuses"}}},
      {"recipes", recipes_json(prepared.recipes)},
      {"settings",
       {{"slots", options.slots == Slots::Both ? "both" : "current"},
        {"wipe", options.wipe},
        {"arch", options.patch.architecture}}},
      {"chain", chain_json(prepared.chain)},
      {"plan", {{"file", "plan.toml"}, {"sha256", plan_sha256}}},
  };
  if (prepared.verification.needs == "own-key")
    manifest["verification"]["key"] = {{"file", kKitKey},
                                       {"sha256", prepared.verification.key_sha256}};
  // Names from a package may hold any bytes: what is no UTF-8 is replaced, never thrown.
  return manifest.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

}  // namespace wexlo
