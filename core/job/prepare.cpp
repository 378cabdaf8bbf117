#include "job/prepare.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "firmware/extract.hpp"
#include "flash/plan_messages.hpp"
#include "job/kit_images.hpp"
#include "job/prepare_inputs.hpp"
#include "job/prepare_making.hpp"
#include "job/rehearse.hpp"
#include "kit/folder/kit_write.hpp"
#include "kit/folder/plan_facts.hpp"
#include "kit/plan/planner.hpp"
#include "kit/verdict/fit_facts.hpp"
#include "kit/verdict/flags_judge.hpp"
#include "kit/verdict/given_judge.hpp"
#include "kit/verdict/kit_seal.hpp"
#include "kit/verdict/pages_judge.hpp"
#include "kit/verdict/stock_judge.hpp"
#include "report/kit_report.hpp"
#include "text/nearest.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Takes findings over. Problems that a person has said yes to are warnings from here on; any other
/// stops the kit. @return whether it is stopped
bool settle(std::vector<Finding> found, const PrepareOptions& options, Prepared& out) {
  std::vector<Finding>& all = out.kit.findings;
  std::ranges::move(found, std::back_inserter(all));
  for (Finding& one : all) {
    if (one.level != Level::Problem || !contains(options.accept, one.id.text())) continue;
    one.level = Level::Warning;
    one.message += " (accepted)";
    out.accepted.insert(one.id.text());
  }
  for (const FitRow& row : out.kit.fit)
    if (row.accepted) out.accepted.insert(row.id.text());
  out.stopped =
      std::ranges::any_of(out.kit.fit, stops) || contains(all, Level::Problem, &Finding::level);
  return out.stopped;
}

/// Codes of --accept that nothing answered to, once everything was looked at.
void tell_unused(const PrepareOptions& options, Prepared& out) {
  for (const std::string& code : options.accept)
    if (!out.accepted.contains(code) && (out.rehearsal || !code.starts_with("rehearsal-")))
      out.kit.findings.push_back(unused_code(code));
}

/// What the next build will be held against.
Result<std::vector<ImageFacts>> chain_facts(StockImages& stock, const Context& context) {
  std::vector<ImageFacts> out;
  for (const std::string_view partition : ramdisk_partitions(RamdiskOrder::Told)) {
    const std::string name(partition);
    WEXLO_TRY(const LoadedImage* const image, stock.get(name, context));
    if (image == nullptr || !image->image) continue;
    WEXLO_TRY(ImageFacts facts, image_facts(*image, name, context));
    out.push_back(std::move(facts));
    image->decoded->let_go();  // what comes later looks at the kit's own images
  }
  // Partitions of device trees have mount points, too; of those that do not read nobody asks more.
  for (const std::string_view partition : tree_partitions()) {
    const std::string trees(partition);
    if (contains(out, trees, &ImageFacts::partition)) continue;
    const auto image = stock.get(trees, context);
    if (!image && is_of_this_run(image.error().code)) return fail(image.error());
    if (!image || *image == nullptr || !(*image)->image) continue;
    WEXLO_TRY(ImageFacts facts, image_facts(**image, trees, context));
    if (!facts.fstabs.empty()) out.push_back(std::move(facts));
  }
  return out;
}

std::vector<FitImage> fit_images(const KitImages& images) {
  std::vector<FitImage> out;
  for (const KitImage& one : images)
    if (one.written) out.push_back({one.partition, one.size(), one.is_logical()});
  return out;
}

LayoutInput layout_input(const PrepareInputs& in, const KitDraft& kit) {
  return {.firmware = *in.firmware,
          .firmware_name = kit.firmware,
          .way = kit.shape.way,
          .restore = kit.purpose == Purpose::Restore,
          .rooms = kit.super.rooms,
          .install = kit.install,
          .given = in.given,
          .key = kit.key,
          .download_limit = kit.sheet ? kit.sheet->number("state.download_limit") : std::nullopt};
}

/// The stages, one after the other: facts, target, slots, fit, images, verdict, plan. Each gives a
/// part of the draft; the work ends with the first problem that nobody accepted, since what comes
/// after would be worked out for nothing.
class Stages {
 public:
  Stages(PrepareInputs& in, const PrepareOptions& options, const Context& context)
      : in_(in), options_(options), context_(context) {}

  Result<Prepared> run() {
    KitDraft& kit = out_.kit;
    kit.firmware = options_.before ? options_.before->firmware : in_.name();
    kit.build = in_.firmware->build;
    kit.purpose = in_.purpose;
    kit.sheet = options_.sheet;
    kit.install = in_.install;
    kit.settings = settings_of(options_);
    kit.making = making_of(in_, options_);
    if (!settle(std::move(in_.findings), options_, out_)) WEXLO_CHECK(from_target());
    return std::move(out_);
  }

 private:
  /// The wrong phone is told before anything is worked out for it.
  Status from_target() {
    KitDraft& kit = out_.kit;
    // All of these are needed if the kit comes about; what is decided first needs one.
    in_.begin_reading(context_);
    if (options_.stock) {
      kit.target = {.partition = "", .reason = "nothing is patched: stock images are put back"};
    } else {
      WEXLO_TRY(kit.target, find_target(*in_.stock, options_.recipes, context_));
    }
    find_shape({});
    WEXLO_TRY(auto found, fit({}));
    if (settle(std::move(found), options_, out_)) return {};
    return from_images();
  }

  Status from_images() {
    KitDraft& kit = out_.kit;
    WEXLO_TRY(MadeImages made, make_images());
    kit.images = std::move(made.images);
    kit.recipes = std::move(made.recipes);
    phone_ = std::move(made.phone);
    // What was given says nothing of the stock image beside it.
    Origins known = std::move(made.origins);
    for (const Given& one : in_.given)
      known.erase(one.partition);
    std::vector<Finding> found = std::move(made.findings);
    WEXLO_TRY(const auto origins,
              judge_origins(kit.images, *in_.stock, known, options_.stock, context_));
    std::ranges::copy(origins, std::back_inserter(found));
    // Whoever patches on top of another tool's patch knows that vbmeta is not for it.
    WEXLO_TRY(const auto covered,
              judge_covered(kit.images, *in_.stock, found, options_.patch.onto_foreign, context_));
    std::ranges::copy(covered, std::back_inserter(found));
    if (!options_.older.build.empty() && options_.older.build == kit.build.fingerprint) {
      const auto others = judge_same_build(kit.images, *in_.stock, options_.older.stock);
      older_differs_ = !others.empty();
      std::ranges::copy(others, std::back_inserter(found));
    }
    if (settle(std::move(found), options_, out_)) return {};
    return from_places();
  }

  Result<MadeImages> make_images() {
    if (options_.stock) {
      MadeImages out;
      WEXLO_TRY(out.images, put_back_images(*in_.stock, options_.stock_of, context_));
      return out;
    }
    return patch_images({.stock = *in_.stock,
                         .target = out_.kit.target,
                         .recipes = options_.recipes,
                         .options = options_.patch,
                         .given = in_.given,
                         .signs = options_.signer != nullptr},
                        context_);
  }

  /// What was given joins; room is made; everything is held against the phone.
  Status from_places() {
    KitDraft& kit = out_.kit;
    WEXLO_CHECK(add_given(in_.given, options_.stock, *in_.stock, kit.images, context_));
    WEXLO_TRY(kit.chain, chain_facts(*in_.stock, context_));
    if (!options_.older.chain.empty())
      kit.differences = differences(options_.older.chain, kit.chain);
    find_shape(kit.chain);
    std::vector<Finding> found;
    if (!kit.shape.way_known)
      found.push_back(usual_finding(
          FindingCode::WayUnknown,
          fmt::format("Whether this phone takes images by its bootloader or in download "
                      "mode is not known: {}. The plan is for the bootloader.",
                      kit.shape.way_why)));
    WEXLO_TRY(kit.super, place_in_super({.firmware = *in_.firmware,
                                         .shape = kit.shape,
                                         .sheet = options_.phone_sheet(),
                                         .lands_elsewhere = in_.lands_elsewhere(kit.shape),
                                         .installs = in_.install.has_value(),
                                         .wipe = options_.wipe},
                                        kit.images, found));
    std::ranges::move(judge_given(in_.given, *in_.stock, kit.super.before, options_.phone_sheet()),
                      std::back_inserter(found));
    WEXLO_TRY(auto fitting, fit(fit_images(kit.images)));
    std::ranges::move(fitting, std::back_inserter(found));
    if (settle(std::move(found), options_, out_)) return {};
    return from_verdict();
  }

  /// Signs with the owner's key, when there is one; then judges what a phone will make of the kit.
  Status from_verdict() {
    KitDraft& kit = out_.kit;
    std::vector<Finding> found;
    Bytes key;
    if (options_.signer) {
      WEXLO_TRY(found, seal_kit(kit.images, *in_.stock, options_.signer, options_.phone_sheet(),
                                context_));
      key = options_.signer->public_key();
    }
    WEXLO_TRY(kit.judged, judge_kit(kit.images, *in_.stock, key, options_.whole, context_));
    for (const std::string& name : kit.judged.walk.left_to_phone())
      found.push_back(usual_finding(
          FindingId(FindingCode::PhonesOwn, name),
          fmt::format("vbmeta chains {}, and the firmware given does not have it: it has "
                      "to be the phone's own, of the same build.",
                      name),
          name));
    if (!kit.judged.stop.empty())
      return fail(
          {.code = ErrorCode::WouldRefuse,
           .message = "even an unlocked phone would not start this set",
           .file = in_.path.string(),
           .found = kit.judged.stop,
           .hint = "Is the firmware whole, and of one build? wexlo check shows the chain."});
    const KitVerdict& verdict = kit.judged.verdict;
    WEXLO_TRY(auto flags, judge_flags({.images = kit.images,
                                       .walk = kit.judged.walk,
                                       .way = kit.shape.way,
                                       .stock = *in_.stock,
                                       .restore = kit.purpose == Purpose::Restore,
                                       .other_system = kit.super.other_system,
                                       .rooms = kit.super.rooms},
                                      context_));
    std::ranges::move(flags, std::back_inserter(found));
    WEXLO_TRY(auto pages, judge_pages(kit.images, *in_.stock, context_));
    std::ranges::move(pages, std::back_inserter(found));
    if (options_.signer && verdict.locked != verified::Outlook::Starts)
      found.push_back({Level::Warning, FindingCode::NotLocked, verdict.why});
    if (verdict.needs == Needs::OwnKey) kit.key = key;
    WEXLO_TRY(auto mounts, judge_mounts(kit.images, kit.chain, kit.judged.walk, context_));
    std::ranges::move(mounts, std::back_inserter(found));
    if (settle(std::move(found), options_, out_)) return {};
    return make_the_plan();
  }

  /// The plan names the kit's files before there are any: their digests are filled in later.
  Status make_the_plan() {
    KitDraft& kit = out_.kit;
    WEXLO_CHECK(complete_images(*in_.stock, in_.install.has_value(), kit.images, context_));
    WEXLO_TRY(kit.layout, lay_out(layout_input(in_, kit), kit.images, context_));
    if (!older_tells()) kit.making.older = {};
    if (!is_wrapped(in_, options_)) kit.making.package.tar_field = kit.layout.tar_field;
    kit.plan = make_plan(plan_facts(kit, *in_.firmware));
    return {};
  }

  /// Whether anything in this kit came of the older one: of the very same build nothing does.
  [[nodiscard]] bool older_tells() const {
    const OlderKit& older = options_.older;
    const KitDraft& kit = out_.kit;
    return older_differs_ || older.device != kit.build.device ||
           older.build != kit.build.fingerprint || !kit.differences.empty();
  }

  void find_shape(const std::vector<ImageFacts>& chain) {
    KitDraft& kit = out_.kit;
    kit.shape = shape_of(*in_.firmware, chain, options_.phone_sheet());
    kit.slots = choose_slots(options_.slots, kit.shape.slotted, kit.build, options_.phone_sheet(),
                             in_.install || kit.purpose == Purpose::Update);
  }

  /// Puts the rows into the draft. @return findings besides
  Result<std::vector<Finding>> fit(std::vector<FitImage> images) {
    const KitDraft& kit = out_.kit;
    WEXLO_TRY(FitResult result, judge_fit({.stock = *in_.stock,
                                           .purpose = kit.purpose,
                                           .shape = kit.shape,
                                           .slots = kit.slots.slots,
                                           .sheet = options_.phone_sheet(),
                                           .recipes = options_.recipes,
                                           .given = in_.given,
                                           .install = in_.install,
                                           .phone = phone_,
                                           .images = std::move(images),
                                           .accept = options_.accept},
                                          context_));
    out_.kit.fit = std::move(result.rows);
    // It is looked at twice: what was found the first time is told once.
    std::erase_if(result.findings,
                  [&](const Finding& one) { return contains(kit.findings, one.id, &Finding::id); });
    return std::move(result.findings);
  }

  PrepareInputs& in_;
  const PrepareOptions& options_;
  const Context& context_;
  PhoneFacts phone_;
  bool older_differs_ = false;  ///< its stock images are not this firmware's
  Prepared out_;
};

}  // namespace

Finding unused_code(const std::string& code) {
  if (!find_kinds(code).empty())
    return {Level::Note, FindingCode::AcceptUnused,
            fmt::format("--accept {}: there is no such finding here.", code)};
  std::vector<std::string> names;
  for (const FindingKind& kind : finding_kinds())
    names.emplace_back(kind.name);
  return {Level::Note, FindingCode::AcceptUnused,
          fmt::format("--accept {}: no finding has this code. {}wexlo explain lists the codes.",
                      code, did_you_mean(code, names))};
}

namespace {

/// A kit whose rehearsal stops is not made unless somebody has said yes to it.
Status write(PrepareInputs& in, const PrepareOptions& options, OutputFolder& folder, Prepared& out,
             const Context& context) {
  const auto report = [&](KitFolder& into, const KitDraft& draft) -> Status {
    if (options.rehearse) {
      WEXLO_TRY(out.rehearsal, rehearse_draft(draft, folder.path(), *in.stock, context));
      if (settle(judge_rehearsal(*out.rehearsal, draft.plan, out.accepted), options, out))
        return fail({.code = ErrorCode::WouldRefuse, .message = out.rehearsal->reason});
    }
    if (draft.shape.way == Way::Bootloader) {
      WEXLO_CHECK(into.put("plan.messages", as_view(plan_messages(draft.plan, draft.plan.steps))));
      WEXLO_CHECK(
          into.put("plan-back.messages", as_view(plan_messages(draft.plan, draft.plan.back))));
    }
    return write_report(into, draft, *in.firmware, out.rehearsal ? &*out.rehearsal : nullptr,
                        context);
  };
  const LayoutInput layout = layout_input(in, out.kit);
  auto written = write_kit(folder.path(), out.kit, layout, report, context);
  if (out.stopped || written) return {};
  return fail(folder.with_final_name(std::move(written).error()));
}

/// @param folder  nullptr: a dry run
Result<Prepared> make(const fs::path& firmware, const PrepareOptions& options, OutputFolder* folder,
                      const Context& context) {
  WEXLO_TRY(PrepareInputs in, open_inputs(firmware, options, context));
  WEXLO_TRY(Prepared out, Stages(in, options, context).run());
  if (folder != nullptr && !out.stopped) WEXLO_CHECK(write(in, options, *folder, out, context));
  return out;
}

}  // namespace

Result<Prepared> prepare(const fs::path& firmware, const PrepareOptions& options,
                         const fs::path& kit, const Context& context) {
  std::optional<OutputFolder> folder;
  if (!options.dry_run) {
    WEXLO_CHECK(check_not_input(kit, options.inputs));
    WEXLO_TRY(OutputFolder made,
              OutputFolder::create(kit, options.overwrite, std::string(kKitManifest)));
    folder.emplace(std::move(made));
  }
  WEXLO_TRY(Prepared out, make(firmware, options, folder ? &*folder : nullptr, context));
  if (folder && !out.stopped) WEXLO_CHECK(folder->commit());
  tell_unused(options, out);
  return out;
}

Result<Prepared> prepare_into(const fs::path& firmware, const PrepareOptions& options,
                              OutputFolder& folder, const Context& context) {
  return make(firmware, options, &folder, context);
}

std::vector<std::string> stopping(const Prepared& prepared) {
  std::vector<std::string> out;
  for (const FitRow& row : prepared.kit.fit)
    if (stops(row)) out.push_back(row.id.text());
  for (const Finding& one : prepared.kit.findings)
    if (one.level == Level::Problem) out.push_back(one.id.text());
  return out;
}

}  // namespace wexlo
