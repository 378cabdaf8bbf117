#include "report/plan_json.hpp"

#include "kit/folder/manifest_json.hpp"

namespace wexlo {
namespace {

/// A step's act. Files are named otherwise than where a file's digest stands: packages are not in
/// the kit.
class ActJson {
 public:
  explicit ActJson(Json& row) : row_(row) {}

  void operator()(const act::Expect& one) const {
    row_["variable"] = one.variable;
    text("value", one.value);
    if (one.at_least) row_["at_least"] = *one.at_least;
    if (one.at_most) row_["at_most"] = *one.at_most;
  }
  void operator()(const act::EnterMode& one) const { row_["mode"] = mode_word(one.mode); }
  void operator()(const act::Write& one) const {
    row_["partition"] = one.partition;
    text("slot", slot_word(one.slot));
    row_["uses"] = one.file.file;
  }
  void operator()(const act::Start& one) const { row_["uses"] = one.file.file; }
  void operator()(const act::Drop& one) const { row_["partition"] = one.partition; }
  void operator()(const act::Create& one) const { sized(one.partition, one.size); }
  void operator()(const act::Resize& one) const { sized(one.partition, one.size); }
  void operator()(const act::ChooseSlot& one) const {
    row_["slot"] = slot_word(one.slot);
    text("value", one.letter);
  }
  void operator()(const act::Install& one) const { row_["uses"] = one.package.file; }
  void operator()(const act::HandOver& one) const {
    text("uses", one.file.file);
    row_["field"] = one.field;
    row_["settings"] = one.settings;
  }
  void operator()(const act::ByHand& one) const {
    row_["task"] = task_word(one.task);
    text("partition", one.partition);
    text("slot", slot_word(one.slot));
    text("uses", one.file.file);
  }
  void operator()(const act::CancelUpdate&) const {}
  void operator()(const act::Wipe&) const {}
  void operator()(const act::Restart&) const {}

 private:
  void text(const char* key, std::string_view value) const {
    if (!value.empty()) row_[key] = value;
  }
  void sized(const std::string& partition, std::uint64_t size) const {
    row_["partition"] = partition;
    row_["size"] = size;
  }
  Json& row_;
};

}  // namespace

Json fit_json(const std::vector<FitRow>& rows) {
  Json out = Json::array();
  for (const FitRow& row : rows)
    out.push_back({{"code", row.id.text()},
                   {"what", row.what},
                   {"firmware", row.firmware.empty() ? Json() : Json(row.firmware)},
                   {"phone", row.phone.empty() ? Json() : Json(row.phone)},
                   {"verdict", verdict_name(row.verdict)},
                   {"level", row.level ? Json(level_name(*row.level)) : Json()},
                   {"accepted", row.accepted},
                   {"why", row.why}});
  return out;
}

Json steps_json(const std::vector<Step>& steps) {
  Json out = Json::array();
  for (const Step& step : steps) {
    Json row = {{"id", step.id}, {"do", act_word(step.act)}, {"about", step.about}};
    std::visit(ActJson(row), step.act);
    if (!step.screen.empty()) row["screen"] = step.screen;
    if (!step.notes.empty()) row["notes"] = step.notes;
    if (!step.success.empty()) row["success"] = step.success;
    if (!step.undo.empty()) row["undo"] = step.undo;
    row["data_loss"] = step.risk.data_loss;
    row["final"] = step.risk.final;
    row["usual_seconds"] = step.usual_seconds;
    out.push_back(std::move(row));
  }
  return out;
}

Json findings_json(const std::vector<Finding>& findings) {
  Json out = Json::array();
  for (const Finding& one : findings)
    out.push_back({{"level", level_name(one.level)},
                   {"code", one.id.text()},
                   {"message", one.message},
                   {"where", one.where}});
  return out;
}

std::string report_json(const KitDraft& draft) {
  Json out = heading_json(manifest_of(draft, {}, {}, {}));
  out["sheet"] = draft.sheet.has_value();
  out["fit"] = fit_json(draft.fit);
  out["images"] = images_json(draft.images);
  out["verification"] = verdict_json(draft.judged.verdict);
  out["first"] = draft.plan.first;
  out["plan"] = steps_json(draft.plan.steps);
  out["back"] = steps_json(draft.plan.back);
  out["findings"] = findings_json(draft.findings);
  return out.dump() + "\n";
}

}  // namespace wexlo
