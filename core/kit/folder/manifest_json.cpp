#include "kit/folder/manifest_json.hpp"

#include "kit/folder/making_json.hpp"

namespace wexlo {
namespace {

constexpr int kWritten = 2;

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

Json file_json(const KitFile& file) {
  return {{"file", file.file}, {"size", file.size}, {"sha256", file.sha256}};
}

Json files_json(const std::vector<KitFile>& files) {
  Json out = Json::array();
  for (const KitFile& one : files)
    out.push_back(file_json(one));
  return out;
}

Json content_json(const KitContent& content) {
  return file_json({content.file, content.size, content.sha256});
}

Json image_json(const KitImage& image) {
  Json out = {{"partition", image.partition}, {"what", made_word(image.made)}};
  if (image.made == Made::Given && image.given) {
    out["logical"] = image.is_logical() ? Json(image.logical) : Json();
    out["kind"] = image.given->kind;
    out["build"] = image.given->build.fingerprint;
  }
  out["flash"] = content_json(image.flash);
  if (!image.flash.pieces.empty()) out["pieces"] = files_json(image.flash.pieces);
  out["stock"] = content_json(image.stock_files);
  if (!image.stock_files.pieces.empty()) out["stock_pieces"] = files_json(image.stock_files.pieces);
  Json ranges = Json::array();
  for (const ChangedRange& range : image.patched.ranges)
    ranges.push_back({{"offset", range.offset},
                      {"size", range.size},
                      {"region", range.region},
                      {"cause", range.cause}});
  out["edits"] = edits_json(image.patched);
  out["entries"] = image.patched.entries;
  out["ranges"] = ranges;
  out["way_back"] = {{"in_image", image.patched.way_back.in_image},
                     {"reason", image.patched.way_back.reason}};
  return out;
}

Json recipes_json(const std::vector<KitRecipe>& recipes) {
  Json out = Json::array();
  for (const KitRecipe& recipe : recipes) {
    Json files = Json::array();
    for (const KitRecipe::File& file : recipe.files) {
      Json row = {{"spelled", file.spelled},
                  {"path", file.path},
                  {"file", file.file},
                  {"sha256", file.sha256}};
      if (!file.named.empty()) row["named"] = file.named;
      files.push_back(std::move(row));
    }
    out.push_back({{"name", recipe.name},
                   {"file", recipe.file},
                   {"sha256", recipe.sha256},
                   {"given", recipe.given},
                   {"files", files}});
  }
  return out;
}

Json settings_json(const KitSettings& settings) {
  const auto arch = settings.told.find("arch");
  Json out = {{"slots", !settings.slots                  ? "auto"
                        : *settings.slots == Slots::Both ? "both"
                                                         : "current"},
              {"wipe", settings.wipe},
              {"arch", arch == settings.told.end() ? "" : arch->second},
              {"accepted", settings.accepted}};
  if (settings.told.size() > static_cast<std::size_t>(arch != settings.told.end())) {
    Values others = settings.told;
    others.erase("arch");
    out["told"] = others;
  }
  if (!settings.technician.empty()) out["technician"] = settings.technician;
  return out;
}

Json super_json(const std::optional<SuperChange>& super) {
  if (!super) return {};
  Json partitions = Json::array(), groups = Json::array(), steps = Json::array();
  for (const LogicalPartition& one : super->before.partitions)
    partitions.push_back({{"name", one.name}, {"size", one.size}, {"group", one.group}});
  for (const LogicalGroup& one : super->before.groups)
    groups.push_back({{"name", one.name}, {"size", one.size}});
  for (const RoomPlan& room : super->rooms)
    for (const RoomStep& step : room.steps)
      steps.push_back({{"do", room_act_word(step.act)},
                       {"partition", step.partition},
                       {"before", step.before},
                       {"after", step.after}});
  return {{"size", super->before.size},
          {"partitions", std::move(partitions)},
          {"groups", std::move(groups)},
          {"steps", std::move(steps)}};
}

}  // namespace

Json images_json(const KitImages& images) {
  Json out = Json::array();
  for (const KitImage& image : images)
    if (image.written) out.push_back(image_json(image));
  return out;
}

Json verdict_json(const KitVerdict& verdict) {
  return {{"needs", needs_word(verdict.needs)},
          {"why", verdict.why},
          {"locked", verified::outlook_name(verdict.locked)},
          {"unlocked", verified::outlook_name(verdict.unlocked)}};
}

Json heading_json(const KitManifest& manifest) {
  return {{"format", kWritten},
          {"device", manifest.device},
          {"build", manifest.build},
          {"patch_level", manifest.patch_level},
          {"firmware", manifest.firmware},
          {"purpose", purpose_word(manifest.purpose)},
          {"way", way_word(manifest.way)},
          {"slots", manifest.slotted ? Json(*manifest.slotted ? 2 : 1) : Json()},
          {"target", manifest.target.partition},
          {"reason", manifest.target.reason},
          {"layout", layout_name(manifest.target.layout)}};
}

std::string format_manifest(const KitManifest& manifest) {
  Json out = heading_json(manifest);
  out["images"] = images_json(manifest.images);
  out["verification"] = verdict_json(manifest.verdict);
  if (!manifest.key.file.empty())
    out["verification"]["key"] = {{"file", manifest.key.file}, {"sha256", manifest.key.sha256}};
  if (manifest.recipes) out["recipes"] = recipes_json(*manifest.recipes);
  out["settings"] = settings_json(manifest.settings);
  if (!manifest.making.version.empty()) out["made"] = making_json(manifest.making);
  out["chain"] = chain_json(manifest.chain);
  out["super"] = super_json(manifest.super);
  out["plan"] = {{"file", manifest.plan.file}, {"sha256", manifest.plan.sha256}};
  out["files"] = files_json(manifest.files);
  return out.dump() + "\n";
}

}  // namespace wexlo
