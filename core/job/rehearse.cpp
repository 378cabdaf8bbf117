#include "job/rehearse.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "firmware/formats.hpp"
#include "firmware/sparse.hpp"
#include "image/partitions.hpp"
#include "kit/folder/kit_folder.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// A stock package is no file of the kit: whoever wants it has it elsewhere.
OpenKitFile files_below(const fs::path& folder) {
  return [folder](const std::string& name) -> Result<SourcePtr> {
    std::error_code ignored;
    if (name.empty() || !is_inside(name) || !fs::exists(folder / name, ignored)) return nullptr;
    return open_file(folder / name);
  };
}

/// The stock twins that are in the kit, whole or in pieces.
Status add_twins(const KitImages& images, const OpenKitFile& open, const Context& context,
                 std::map<std::string, SourcePtr>& out) {
  for (const KitImage& one : images) {
    if (one.stock_files.empty() || out.contains(one.partition)) continue;
    std::vector<SourcePtr> pieces;
    for (const KitFile& piece : one.stock_files.pieces) {
      WEXLO_TRY(SourcePtr source, open(piece.file));
      if (source != nullptr) pieces.push_back(std::move(source));
    }
    SourcePtr whole;
    if (!pieces.empty()) {
      WEXLO_TRY(whole, open_sparse_set(pieces, one.partition, context));
    } else {
      WEXLO_TRY(whole, open(one.stock_files.file));
    }
    if (whole != nullptr) out.emplace(one.partition, std::move(whole));
  }
  return {};
}

/// What a start looks at, of the whole firmware. An image that does not read is left to the phone.
Status add_chain(StockImages& stock, const Context& context,
                 std::map<std::string, SourcePtr>& out) {
  for (const PartitionFacts& one : stock.firmware().partitions) {
    const std::string bare(without_slot(one.name));
    if (partition_class(bare) == PartitionClass::Other || out.contains(bare)) continue;
    const auto image = stock.get(bare, context);
    if (!image && is_of_this_run(image.error().code)) return fail(image.error());
    if (!image || *image == nullptr || (*image)->bytes.empty()) continue;
    out.emplace(bare, open_memory((*image)->bytes, bare));
  }
  return {};
}

std::vector<std::string> names_of(const std::vector<ImageFacts>& chain) {
  std::vector<std::string> out;
  for (const ImageFacts& one : chain)
    if (partition_class(without_slot(one.partition)) == PartitionClass::Boot &&
        one.partition != "recovery")
      out.emplace_back(without_slot(one.partition));
  return out;
}

}  // namespace

Result<Rehearsal> rehearse_kit(const Kit& kit, const RehearseOptions& options,
                               const Context& context) {
  const KitManifest& manifest = kit.manifest();
  WEXLO_TRY(const Plan plan, kit.plan());
  // What the kit was made for, where nobody names another phone.
  std::optional<Sheet> sheet = options.sheet;
  if (!sheet) {
    WEXLO_TRY(sheet, kit.sheet(context));
  }
  const OpenKitFile open = files_below(kit.folder());
  std::map<std::string, SourcePtr> stock;
  FirmwarePtr firmware;
  if (!options.firmware.empty()) {
    WEXLO_TRY(firmware, open_firmware(options.firmware, {.context = context}));
    StockImages images(*firmware, options.firmware, nullptr);
    WEXLO_CHECK(add_chain(images, context, stock));
  }
  WEXLO_CHECK(add_twins(manifest.images, open, context, stock));
  const KitPhoneInput phone{.device = manifest.device,
                            .patch_level = manifest.patch_level,
                            .way = manifest.way,
                            .slotted = manifest.slotted.value_or(true),
                            .plan = plan,
                            .images = manifest.images,
                            .super = manifest.super ? &*manifest.super : nullptr,
                            .sheet = sheet ? &*sheet : nullptr,
                            .chain = names_of(manifest.chain),
                            .stock = std::move(stock)};
  return rehearse({.phone = phone, .open = open, .faults = options.faults}, context);
}

Result<Rehearsal> rehearse_draft(const KitDraft& kit, const fs::path& folder, StockImages& stock,
                                 const Context& context) {
  const OpenKitFile open = files_below(folder);
  std::map<std::string, SourcePtr> images;
  WEXLO_CHECK(add_chain(stock, context, images));
  WEXLO_CHECK(add_twins(kit.images, open, context, images));
  const bool logical = std::ranges::any_of(kit.images, &KitImage::is_logical);
  const KitPhoneInput phone{.device = kit.build.device,
                            .patch_level = kit.build.patch_level,
                            .way = kit.shape.way,
                            .slotted = kit.shape.slotted.value_or(true),
                            .plan = kit.plan,
                            .images = kit.images,
                            .super = logical ? &kit.super : nullptr,
                            .sheet = kit.sheet ? &*kit.sheet : nullptr,
                            .chain = names_of(kit.chain),
                            .stock = std::move(images)};
  return rehearse({.phone = phone, .open = open}, context);
}

namespace {

/// The finding that foretells what a variable's expectation stops at; nullopt: none does.
std::optional<FindingCode> foretold_by(const act::Expect& want) {
  if (want.variable == "product") return FindingCode::FitDevice;
  if (want.variable == "anti") return FindingCode::FitAntiRollback;
  if (want.variable == "snapshot-update-status") return FindingCode::FitUpdateRunning;
  if (want.variable.starts_with("partition-size:")) return FindingCode::FitPartitionSize;
  return std::nullopt;
}

/// The finding that foretells where a rehearsal stopped; nullopt: none does.
std::optional<FindingCode> foretold_by(const Rehearsal& rehearsal, const Plan& plan) {
  switch (rehearsal.cause) {
    case StartCause::VbmetaNotAlong: return FindingCode::VbmetaNeeded;
    case StartCause::PatchLevel: return FindingCode::FitPatchLevel;
    case StartCause::DataUnreadable: return FindingCode::DataUnreadable;
    case StartCause::Rollback: return FindingCode::FitRollback;
    case StartCause::StepFailed: {
      const auto at = std::ranges::find(plan.steps, rehearsal.steps.back().id, &Step::id);
      const auto* want = at == plan.steps.end() ? nullptr : at->get<act::Expect>();
      return want == nullptr ? std::nullopt : foretold_by(*want);
    }
    default: return std::nullopt;
  }
}

/// Whether somebody has said yes to that finding, of whatever partition.
bool was_accepted(const std::optional<FindingCode>& code, const std::set<std::string>& accepted) {
  return code && std::ranges::any_of(accepted, [&](const std::string& one) {
           const auto kinds = find_kinds(one);
           return contains(kinds, &kind_of(*code));
         });
}

}  // namespace

std::vector<Finding> judge_rehearsal(const Rehearsal& rehearsal, const Plan& plan,
                                     const std::set<std::string>& accepted) {
  std::vector<Finding> out;
  switch (rehearsal.verdict) {
    case StartVerdict::Starts: break;
    case StartVerdict::StartsWithWarning:
      // That an unlocked phone says so is what every kit for one is made for.
      if (rehearsal.cause == StartCause::VerificationWarns) break;
      out.push_back(usual_finding(FindingCode::RehearsalWarns,
                                  fmt::format("The rehearsal: {}", rehearsal.reason)));
      break;
    case StartVerdict::OtherSlot:
    case StartVerdict::Stops:
      out.push_back(usual_finding(FindingCode::RehearsalStops,
                                  fmt::format("The rehearsal stops: {}", rehearsal.reason)));
      if (was_accepted(foretold_by(rehearsal, plan), accepted)) out.back().level = Level::Warning;
      break;
    case StartVerdict::CannotTell:
      out.push_back(usual_finding(FindingCode::RehearsalUnknown,
                                  fmt::format("The rehearsal cannot tell: {}", rehearsal.reason)));
      break;
  }
  if (rehearsal.back && (rehearsal.back->verdict == StartVerdict::Stops ||
                         rehearsal.back->verdict == StartVerdict::OtherSlot))
    out.push_back(
        usual_finding(FindingCode::RehearsalBack,
                      fmt::format("The way back, rehearsed: {}", rehearsal.back->reason)));
  return out;
}

}  // namespace wexlo
