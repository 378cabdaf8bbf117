#include "job/manifest.hpp"

#include "kit/folder/kit_super.hpp"

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
      {"what", image.files.what},
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

Json file_json(const PlanFile& file) {
  return {{"file", file.file}, {"size", file.size}, {"sha256", file.sha256}};
}

Json files_json(const std::vector<PlanFile>& files) {
  Json out = Json::array();
  for (const PlanFile& one : files)
    out.push_back(file_json(one));
  return out;
}

/// What was given and is written as it is.
Json given_json(const std::vector<GivenPart>& parts) {
  Json out = Json::array();
  for (const GivenPart& part : parts) {
    const PlanImage& files = part.files;
    Json row = {{"partition", part.given.partition},
                {"logical", part.logical.empty() ? Json() : Json(part.logical)},
                {"kind", part.given.kind},
                {"build", part.given.build.fingerprint},
                {"pieces", files_json(files.pieces)},
                {"stock_pieces", files_json(files.stock_pieces)}};
    if (!files.flash_file.empty())
      row["flash"] = file_json({files.flash_file, files.size, files.flash_sha256});
    if (!files.stock_file.empty())
      row["stock"] = file_json({files.stock_file, files.stock_size, files.stock_sha256});
    out.push_back(std::move(row));
  }
  return out;
}

Json fit_json(const std::vector<FitRow>& rows) {
  Json out = Json::array();
  for (const FitRow& row : rows)
    out.push_back({{"code", row.code},
                   {"what", row.what},
                   {"firmware", row.firmware.empty() ? Json() : Json(row.firmware)},
                   {"phone", row.phone.empty() ? Json() : Json(row.phone)},
                   {"verdict", verdict_name(row.verdict)},
                   {"level", row.level.empty() ? Json() : Json(row.level)},
                   {"accepted", row.accepted},
                   {"why", row.why}});
  return out;
}

Json steps_json(const std::vector<Step>& steps) {
  Json out = Json::array();
  for (const Step& step : steps) {
    Json row = {{"id", step.id}, {"do", step.act}, {"about", step.about}};
    const auto text = [&](const char* key, const std::string& value) {
      if (!value.empty()) row[key] = value;
    };
    text("partition", step.partition);
    text("slot", step.slot);
    text("variable", step.variable);
    text("value", step.value);
    if (step.at_least) row["at_least"] = *step.at_least;
    if (step.at_most) row["at_most"] = *step.at_most;
    // Named otherwise than where a file's digest stands: packages are not in the kit.
    text("uses", step.file);
    text("screen", step.screen);
    if (!step.notes.empty()) row["notes"] = step.notes;
    text("field", step.field);
    if (!step.settings.empty()) row["settings"] = step.settings;
    text("success", step.success);
    text("undo", step.undo);
    row["data_loss"] = step.data_loss;
    row["final"] = step.final;
    row["usual_seconds"] = step.usual_seconds;
    out.push_back(std::move(row));
  }
  return out;
}

std::string_view purpose_name(Purpose purpose) {
  return purpose == Purpose::Patch ? "patch" : purpose == Purpose::Update ? "update" : "restore";
}

Json verification_json(const Verification& verification) {
  return {{"needs", verification.needs},
          {"why", verification.why},
          {"locked", verified::outlook_name(verification.locked)},
          {"unlocked", verified::outlook_name(verification.unlocked)}};
}

/// What manifest and report both begin with.
Json heading_json(const Prepared& prepared, const std::string& firmware_name) {
  return {{"format", 1},
          {"device", prepared.build.device},
          {"build", prepared.build.fingerprint},
          {"patch_level", prepared.build.patch_level},
          {"firmware", firmware_name},
          {"purpose", purpose_name(prepared.purpose)},
          {"way", prepared.shape.way == Way::Download ? "download" : "bootloader"},
          {"slots", prepared.shape.slotted ? Json(*prepared.shape.slotted ? 2 : 1) : Json()},
          {"target", prepared.target.partition},
          {"reason", prepared.target.reason},
          {"layout", layout_name(prepared.target.layout)}};
}

}  // namespace

std::string kit_report_json(const Prepared& prepared, const PrepareOptions& options,
                            const std::string& firmware_name) {
  Json out = heading_json(prepared, firmware_name);
  Json images = Json::array(), findings = Json::array();
  for (const PreparedImage& image : prepared.images)
    if (image.flashed) images.push_back(image_json(image));
  for (const Finding& one : prepared.findings)
    findings.push_back(
        {{"level", one.level}, {"code", one.code}, {"message", one.message}, {"where", one.where}});
  out["sheet"] = options.sheet.has_value();
  out["fit"] = fit_json(prepared.fit);
  out["images"] = std::move(images);
  out["given"] = given_json(prepared.given);
  out["verification"] = verification_json(prepared.verification);
  out["first"] = prepared.plan.first;
  out["plan"] = steps_json(prepared.plan.steps);
  out["back"] = steps_json(prepared.plan.back);
  out["findings"] = std::move(findings);
  return out.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

std::string kit_manifest(const Prepared& prepared, const PrepareOptions& options,
                         const std::string& firmware_name, const std::string& plan_sha256) {
  Json images = Json::array();
  for (const PreparedImage& image : prepared.images)
    if (image.flashed) images.push_back(image_json(image));
  Json manifest = heading_json(prepared, firmware_name);
  manifest["images"] = std::move(images);
  manifest["given"] = given_json(prepared.given);
  manifest["verification"] = verification_json(prepared.verification);
  // A kit that only puts stock back has no recipes, which is not the same as not recording them.
  manifest["recipes"] = recipes_json(prepared.recipes);
  manifest["settings"] = {{"slots", !options.slots                  ? "auto"
                                    : *options.slots == Slots::Both ? "both"
                                                                    : "current"},
                          {"wipe", options.wipe},
                          {"arch", options.patch.architecture},
                          {"accepted", options.accept}};
  manifest["chain"] = chain_json(prepared.chain);
  manifest["super"] = Json::parse(kit_super_json(prepared.super, prepared.rooms));
  manifest["plan"] = {{"file", "plan.toml"}, {"sha256", plan_sha256}};
  manifest["files"] = files_json(prepared.files);
  if (prepared.verification.needs == "own-key")
    manifest["verification"]["key"] = {{"file", kKitKey},
                                       {"sha256", prepared.verification.key_sha256}};
  // Names from a package may hold any bytes: what is no UTF-8 is replaced, never thrown.
  return manifest.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

std::string fit_json_text(const std::vector<FitRow>& rows) {
  return fit_json(rows).dump(-1, ' ', false, Json::error_handler_t::replace);
}

}  // namespace wexlo
