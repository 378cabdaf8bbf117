#include "kit/folder/plan_facts.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"

namespace wexlo {
namespace {

/// What the bootloader calls the phone, where somebody says so: the sheet, the package's info text,
/// its own check. A build's codename alone is none: loaders may answer with a chipset's word.
std::string products_of(const BuildFacts& build, const std::optional<Sheet>& sheet) {
  if (sheet && !sheet->text("phone.product").empty()) return sheet->text("phone.product");
  for (const std::string& line : build.demands)
    if (const auto want = parse_demand(line); want && want->kind == Demand::Kind::Require &&
                                              want->only_for.empty() &&
                                              (want->name == "board" || want->name == "product"))
      return fmt::format("{}", fmt::join(want->values, "|"));
  return build.checked_device;
}

/// What a person has to know before anything is done, out of what was found.
std::vector<std::string> first_sentences(const KitDraft& draft) {
  std::vector<std::string> out;
  for (const Finding& one : draft.findings)
    if (one.id.code == FindingCode::DataUnreadable || one.id.code == FindingCode::SkipList ||
        one.id.code == FindingCode::WayUnknown)
      out.push_back(one.message);
  return out;
}

void take_sheet(const Sheet& sheet, PlanFacts& out) {
  const std::string& lock = sheet.text("state.lock");
  if (!lock.empty()) out.locked = lock == "locked";
  out.this_slot = sheet.text("state.current_slot");
  for (const auto& [name, note] : sheet.access)
    out.access.emplace(name, note);
}

void take_layout(const KitDraft& draft, PlanFacts& out) {
  const KitLayout& layout = draft.layout;
  out.contents = layout.contents;
  out.tar = {layout.images.name};
  out.stock_tar = {layout.stock.name};
  out.first_tar = {layout.first.name};
  out.tar_field = draft.making.package.tar_field;
  out.key_file = layout.key.file;
  if (draft.install)
    out.install = PlanInstall{layout.install, draft.install->payload,
                              contains(draft.install->build.demands, "ota-wipe=yes")};
  // In download mode super is written anew as a whole: nothing is left for the userspace mode.
  if (draft.shape.way == Way::Download) return;
  for (const RoomPlan& room : draft.super.rooms)
    out.room.insert(out.room.end(), room.steps.begin(), room.steps.end());
}

/// A patched boot alone can be started once without being written. What else changes would not be
/// there then.
bool takes_trial(const KitDraft& draft) {
  if (draft.purpose != Purpose::Patch || draft.target.partition != "boot" || draft.install)
    return false;
  return std::ranges::all_of(draft.images, [](const KitImage& one) {
    return !one.written || one.partition == "boot" || is_vbmeta(without_slot(one.partition));
  });
}

}  // namespace

PlanFacts plan_facts(const KitDraft& draft, const Firmware& firmware) {
  const KitVerdict& verdict = draft.judged.verdict;
  PlanFacts out{.device = draft.build.device,
                .build = draft.build.fingerprint,
                .images = draft.images,
                .slots = draft.slots.slots,
                .wipe = draft.settings.wipe,
                .needs = verdict.needs,
                .needs_why = verdict.why,
                .key_file = {},
                .key_sha256 = verdict.key_sha256,
                .way = draft.shape.way,
                .slotted = draft.shape.slotted.value_or(true),
                .restore = draft.purpose == Purpose::Restore,
                .recovery_only = draft.target.partition == "recovery",
                .products = products_of(draft.build, draft.sheet),
                .contents_source = fmt::format("the stock package {}", draft.firmware),
                .other_system = draft.super.other_system,
                .anti_rollback = draft.build.anti_rollback,
                .model = draft.build.model,
                .first = first_sentences(draft)};
  out.writes_vbmeta = std::ranges::any_of(out.images, [](const KitImage& one) {
    return one.written && one.made != Made::Stock && is_vbmeta(without_slot(one.partition));
  });
  out.trial_start = takes_trial(draft);
  out.own_recovery = std::ranges::any_of(out.images, [](const KitImage& one) {
    return one.written && one.partition == "recovery" && one.made != Made::Stock;
  });
  if (draft.sheet) take_sheet(*draft.sheet, out);
  take_layout(draft, out);
  if (draft.purpose == Purpose::Update) {
    const SettingsParts& parts = draft.making.package.settings;
    out.update = PlanUpdate{draft.firmware, contains(firmware.layers, "payload", &Layer::kind),
                            parts.keeping, parts.wiping};
  }
  return out;
}

}  // namespace wexlo
