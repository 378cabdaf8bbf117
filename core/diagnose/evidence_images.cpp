/// What the images say: put on a simulated phone and looked at as its loader, kernel and first
/// program would, and beside their stock twins.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "diagnose/evidence.hpp"
#include "diagnose/image_differences.hpp"
#include "flash/bench_phone.hpp"
#include "flash/phones_own.hpp"
#include "image/partitions.hpp"
#include "phone/simulated/start_look.hpp"

namespace wexlo {
namespace {

struct FindingRow {
  FindingCode code;
  Cause cause;
  int problem, warning, note;  ///< weight by level
};
constexpr FindingRow kFindings[] = {
    {FindingCode::Kernel, Cause::WrongImage, 20, 10, 0},
    {FindingCode::HeaderForm, Cause::WrongImage, 35, 10, 0},
    {FindingCode::SectionBounds, Cause::WrongImage, 35, 15, 0},
    {FindingCode::PartitionSize, Cause::WrongImage, 25, 10, 0},
    {FindingCode::VersionPair, Cause::OtherBuild, 30, 15, 0},
    {FindingCode::SlotState, Cause::OtherBuild, 40, 30, 5},
    {FindingCode::OsVersion, Cause::OtherBuild, 15, 10, 0},
    {FindingCode::RamdiskPacking, Cause::RamdiskPacking, 40, 20, 0},
    {FindingCode::KernelModules, Cause::ModuleGeneration, 45, 40, 10},
    {FindingCode::MountTable, Cause::MountTableForm, 25, 15, 0},
    {FindingCode::TextForm, Cause::MountTableForm, 45, 35, 5},
    {FindingCode::ProgramPages, Cause::FirstProgram, 45, 25, 5},
    {FindingCode::VerifiedStruct, Cause::FooterLost, 35, 15, 0},
    {FindingCode::FileLength, Cause::FooterLost, 15, 10, 0},
    {FindingCode::ImageDigest, Cause::StaleDigest, 35, 30, 5},
    {FindingCode::Signature, Cause::StaleDigest, 10, 5, 0},
    {FindingCode::RollbackIndex, Cause::Rollback, 45, 25, 5},
    {FindingCode::PatchLevel, Cause::PatchLevel, 30, 20, 5},
    {FindingCode::SystemDigest, Cause::HashTree, 40, 35, 5},
    {FindingCode::MergePending, Cause::HalfUpdate, 40, 30, 5},
};

struct StartRow {
  StartCause start;
  Cause cause;
  int weight;
};
/// How the simulated phone ends with these images.
constexpr StartRow kStarts[] = {
    {StartCause::NoKernel, Cause::WrongImage, 40},
    {StartCause::ImageForm, Cause::WrongImage, 40},
    {StartCause::NotVerified, Cause::StaleDigest, 25},
    {StartCause::NotVerified, Cause::LockedPhone, 20},
    {StartCause::Rollback, Cause::Rollback, 45},
    {StartCause::RamdiskFormat, Cause::RamdiskPacking, 40},
    {StartCause::RamdiskJoint, Cause::RamdiskJoint, 50},
    {StartCause::NoFirstProgram, Cause::FirstProgram, 40},
    {StartCause::FirstProgram, Cause::FirstProgram, 45},
    {StartCause::MountTable, Cause::MountTableForm, 30},
    {StartCause::OtherRamdisk, Cause::OtherRamdisk, 40},
    {StartCause::PatchLevel, Cause::PatchLevel, 45},
    {StartCause::DataUnreadable, Cause::DataKeys, 45},
    {StartCause::UpdateHalfDone, Cause::HalfUpdate, 40},
    {StartCause::RecoveryRestored, Cause::RecoveryRestored, 50},
    {StartCause::SlotUnbootable, Cause::SlotMarked, 40},
    {StartCause::NoTriesLeft, Cause::SlotMarked, 40},
};

class ImageEvidence {
 public:
  ImageEvidence(const DiagnoseInput& input, const Context& context)
      : in_(input), context_(context) {}

  Result<EvidenceList> run() {
    if (in_.given.empty()) return out_;
    WEXLO_CHECK(make_phone());
    WEXLO_TRY(const StartLook look, look_at(*phone_, slot_, stock_, nullptr));
    findings(look.findings, "");
    chain(look);
    WEXLO_CHECK(beside_stock(look));
    WEXLO_TRY(const PoweredOn started, power_on(*phone_, stock_));
    start(started, look);
    return std::move(out_);
  }

 private:
  void add(Cause cause, int weight, std::string text, std::string where) {
    if (weight != 0) out_.push_back({cause, weight, std::move(text), std::move(where)});
  }

  [[nodiscard]] bool slotted() const {
    if (in_.expected != nullptr) return in_.expected->slotted;
    if (in_.sheet != nullptr && !in_.sheet->text("state.slots").empty())
      return in_.sheet->text("state.slots") == "2";
    if (in_.observed != nullptr && in_.observed->find(Fact::Slot) != nullptr) return true;
    // Phones of these header versions have two slots; of older ones it is not known.
    return in_.given.contains("init_boot") || in_.given.contains("vendor_boot") ||
           in_.stock.contains("vendor_boot");
  }

  Status make_phone() {
    auto store = std::make_unique<MemoryStore>();
    PhoneState state;
    if (in_.sheet != nullptr) state = state_of_sheet(*in_.sheet);
    state.slotted = slotted();
    if (in_.expected != nullptr && !in_.expected->slot.empty()) state.slot = in_.expected->slot;
    if (in_.observed != nullptr) {
      if (const Seen* lock = in_.observed->find(Fact::Lock)) state.locked = lock->value == "locked";
    }
    if (in_.kit != nullptr) state.download.there = in_.kit->way == Way::Download;
    state.restores_recovery = !state.slotted && in_.stock.contains("recovery");
    slot_ = state.slotted ? state.slot : "";
    std::map<std::string, std::uint64_t> sizes;
    for (const auto* images : {&in_.stock, &in_.given})
      for (const auto& [name, image] : *images)
        sizes[name] = std::max(sizes[name], image->size());
    for (const auto& [name, size] : sizes)
      for (const char* letter : {"_a", "_b"}) {
        const std::string full = state.slotted ? name + letter : name;
        if (store->size_of(full)) continue;
        WEXLO_CHECK(store->add(full, size));
        if (const auto at = in_.stock.find(name); at != in_.stock.end())
          WEXLO_CHECK(store->put(full, {{0, at->second->size(), at->second, 0}}));
      }
    phone_ =
        std::make_unique<SimulatedPhone>(std::move(state), std::move(store), Faults{}, context_);
    WEXLO_TRY(stock_, StockState::of(*phone_, phones_own([this](const std::string& name) {
                return image(name);
              })));
    if (!in_.stock.empty()) take_in_hand(*phone_, *stock_);
    for (const auto& [name, image] : in_.given) {
      const std::string full = slot_.empty() ? name : name + "_" + slot_;
      if (const auto at = in_.stock.find(name); at != in_.stock.end() && at->second == image)
        continue;
      WEXLO_CHECK(phone_->replace(full, image));
      phone_->state.written.insert(full);
    }
    return {};
  }

  [[nodiscard]] SourcePtr image(const std::string& name) const {
    for (const auto* images : {&in_.given, &in_.stock})
      if (const auto at = images->find(name); at != images->end()) return at->second;
    return nullptr;
  }

  void findings(const std::vector<Finding>& all, const std::string& only) {
    for (const Finding& one : all) {
      if (!only.empty() && one.where != only) continue;
      // What stock has, too, does not keep the phone from starting.
      if (stock_ && stock_->troubles.contains(trouble_text(one))) continue;
      if (!one.where.empty() && !in_.given.contains(one.where) && one.level == Level::Note)
        continue;
      special(one);
      for (const FindingRow& row : kFindings)
        if (row.code == one.id.code)
          add(row.cause,
              one.level == Level::Problem   ? row.problem
              : one.level == Level::Warning ? row.warning
                                            : row.note,
              one.message, one.where);
    }
  }

  /// Rules that speak for one cause or another by where they found something.
  void special(const Finding& one) {
    if (one.id.code == FindingCode::RamdiskUnused) {
      const bool elsewhere = one.where == "boot" && phone_->size_of(phone_->full_name("init_boot"));
      add(elsewhere ? Cause::OtherRamdisk : Cause::SkipWord, 30, one.message, one.where);
    }
    if (one.id.code == FindingCode::DeviceIdentity) {
      const bool trees = one.where == "dtbo" || one.where == "dtb" || one.where == "vendor_boot";
      add(trees ? Cause::OtherBoard : Cause::OtherVariant, trees ? 40 : 25, one.message, one.where);
    }
  }

  /// A partition that is chained and has no struct of its own.
  void chain(const StartLook& look) {
    for (const verified::ChainStruct& one : look.walk.structs)
      if (!one.found && in_.given.contains(one.partition))
        add(Cause::FooterLost, 45,
            fmt::format("vbmeta chains {}, and there is no footer at its end", one.partition),
            one.partition);
    // What an unlocked loader only warns of is a problem to a locked one.
    std::vector<Finding> faults;
    for (const verified::Fault& one : look.walk.faults)
      faults.push_back({phone_->state.locked ? Level::Problem : Level::Warning, one.code,
                        one.message, one.partition});
    findings(faults, "");
    if (!look.walk.verification_disabled) return;
    const std::string off = "verification is switched off by vbmeta's flags";
    add(Cause::StaleDigest, -30, off, "vbmeta");
    add(Cause::HashTree, -20, off, "vbmeta");
    if (patch_level_of(look.set, true).empty())
      add(Cause::DataKeys, 25,
          off + ", and the boot header has no patch level: some loaders then tell none", "vbmeta");
  }

  Status beside_stock(const StartLook& look) {
    for (const Subject& one : look.set.all) {
      if (!in_.given.contains(one.partition) || !stock_) continue;
      const auto at =
          stock_->images.find(slot_.empty() ? one.partition : one.partition + "_" + slot_);
      if (at == stock_->images.end() || one.untouched) continue;
      const Subject& stock = at->second.subject;
      if (one.loaded && stock.loaded) {
        Report report;
        judge_against_stock(one, stock, report);
        findings(report.take(), "");
      }
      for (Evidence& evidence : differences_of(one, stock, look.joined))
        out_.push_back(std::move(evidence));
    }
    return check_stop(context_);
  }

  void start(const PoweredOn& started, const StartLook& look) {
    bool told = false;
    for (const StartRow& row : kStarts)
      if (row.start == started.cause) {
        told = true;
        if (row.start == StartCause::OtherRamdisk && look.asleep == look.joined.last_partition) {
          add(Cause::SkipWord, row.weight, fmt::format("on a simulated phone: {}", started.reason),
              "");
          continue;
        }
        add(row.cause, row.weight, fmt::format("on a simulated phone: {}", started.reason), "");
      }
    if (!told && started.verdict == StartVerdict::Starts)
      for (const Cause cause : {Cause::WrongImage, Cause::RamdiskPacking, Cause::RamdiskJoint,
                                Cause::FirstProgram, Cause::StaleDigest})
        add(cause, -15, "with these images a simulated phone starts", "");
  }

  const DiagnoseInput& in_;
  const Context& context_;
  std::unique_ptr<SimulatedPhone> phone_;
  StockStatePtr stock_;
  std::string slot_;
  EvidenceList out_;
};

}  // namespace

Result<EvidenceList> evidence_of_images(const DiagnoseInput& input, const Context& context) {
  return ImageEvidence(input, context).run();
}

}  // namespace wexlo
