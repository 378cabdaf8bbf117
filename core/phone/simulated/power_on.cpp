#include "phone/simulated/power_on.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "image/partitions.hpp"
#include "phone/simulated/start_look.hpp"
#include "phone/simulated/start_shows.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

/// One switching on.
class PowerOn {
 public:
  PowerOn(SimulatedPhone& phone, const StockStatePtr& stock, const SourcePtr& once)
      : phone_(phone), stock_(stock), once_(once) {}

  Result<PoweredOn> run() {
    if (pick_slot()) {
      WEXLO_CHECK(start(out_.slot));
      if (out_.verdict == StartVerdict::Stops && stage_ == StartStage::Loader &&
          phone_.state.slotted)
        WEXLO_CHECK(fall_back());
    }
    out_.symptom = symptom_of(out_.verdict, out_.cause);
    auto told = phone_.faults.symptom();
    // These show when it is written to, not when it starts.
    if (told == Symptom::RefusesWrite || told == Symptom::RefusesUpdate) told.reset();
    if (told) stage_ = fail_as(*told, out_);
    out_.shows = what_it_shows(phone_, look_, out_, stage_, told);
    return std::move(out_);
  }

 private:
  void log(std::string line) { out_.log.push_back(std::move(line)); }

  void decide(StartVerdict verdict, StartCause cause, std::string reason) {
    out_.verdict = verdict;
    out_.cause = cause;
    out_.reason = std::move(reason);
  }
  /// @return false, so that a stage may end with it
  bool stop(StartCause cause, std::string reason) {
    log("stops: " + reason);
    decide(StartVerdict::Stops, cause, std::move(reason));
    return false;
  }

  static bool usable(const SlotMarks& marks) {
    return !marks.unbootable && (marks.successful || marks.tries > 0);
  }

  bool pick_slot() {
    PhoneState& state = phone_.state;
    log(fmt::format("loader: {}, {}", state.product.empty() ? "a phone" : state.product,
                    state.locked ? "locked" : "unlocked"));
    if (!state.slotted) return true;
    const std::string wanted = state.slot, other = phone_.other_slot();
    const SlotMarks marks = phone_.marks_of(wanted);
    log(fmt::format("loader: slot {} is chosen: {} tries, {}{}", wanted, marks.tries,
                    marks.successful ? "started well before" : "not yet started well",
                    marks.unbootable ? ", marked as one that does not start" : ""));
    if (usable(marks)) {
      out_.slot = wanted;
      if (!marks.successful) state.slots[wanted] = {.tries = marks.tries - 1, .successful = false};
      return true;
    }
    const StartCause cause =
        marks.unbootable ? StartCause::SlotUnbootable : StartCause::NoTriesLeft;
    const std::string why =
        marks.unbootable ? fmt::format("slot {} is marked as one that does not start", wanted)
                         : fmt::format("slot {} has no tries left, and never started well", wanted);
    if (!usable(phone_.marks_of(other)))
      return stop(cause, fmt::format("No slot is left that may be started: {}.", why));
    fallen_ = {cause, why};
    out_.slot = state.slot = other;
    log(fmt::format("loader: {}: slot {} instead", why, other));
    return true;
  }

  /// What the loader refuses marks its slot, and the other one is tried.
  Status fall_back() {
    const std::string failed = out_.slot, other = phone_.other_slot();
    phone_.state.slots[failed] = {.tries = 0, .successful = false, .unbootable = true};
    if (fallen_ || !usable(phone_.marks_of(other)) || !has_boot(other)) return {};
    const PoweredOn first = out_;
    fallen_ = {first.cause, first.reason};
    log(fmt::format("loader: slot {} does not start: slot {} instead", failed, other));
    out_.slot = phone_.state.slot = other;
    WEXLO_CHECK(start(other));
    if (out_.starts() || out_.verdict == StartVerdict::OtherSlot) return {};
    decide(first.verdict, first.cause, first.reason);
    return {};
  }

  [[nodiscard]] bool has_boot(const std::string& slot) {
    const auto boot = phone_.size_of("boot_" + slot) ? phone_.content("boot_" + slot)
                                                     : Result<SourcePtr>(nullptr);
    if (!boot || *boot == nullptr) return false;
    const auto head = read_some(**boot, 0, 8);
    return head && !all_bytes(*head, std::byte{0});
  }

  Status start(const std::string& slot) {
    stage_ = StartStage::Loader;
    WEXLO_TRY(look_, look_at(phone_, slot, stock_, once_));
    for (const std::string& line : look_.log)
      log(line);
    if (!loader()) return {};
    stage_ = StartStage::Kernel;
    if (!kernel()) return {};
    stage_ = StartStage::System;
    if (system()) finish();
    return {};
  }

  bool loader() {
    PhoneState& state = phone_.state;
    const verified::Walk& walk = look_.walk;
    const bool own = stock_ && stock_->own.contains("boot");
    if (!own && look_.set.find("boot") == nullptr && look_.set.find("kernel") == nullptr)
      return stop(StartCause::NoKernel, "There is no boot image to start.");
    for (const Subject& one : look_.set.all)
      if (one.trouble && is_boot_class(one.partition) && !one.untouched && one.partition != "dtbo")
        return stop(StartCause::ImageForm, fmt::format("The loader cannot read {}: {}.",
                                                       one.partition, one.trouble->message));
    if (const Subject* boot = look_.set.find("boot");
        boot != nullptr && boot->loaded && boot->image() == nullptr)
      return stop(StartCause::NoKernel, "What is in boot is no boot image.");
    if (walk.structs.empty()) {
      log("verified boot: no vbmeta");
      if (state.locked && look_.changed())
        return stop(StartCause::NotVerified,
                    fmt::format("The bootloader is locked, and {} is changed: it starts nothing "
                                "that its maker did not sign.",
                                fmt::join(look_.changed_names, ", ")));
      return guard();
    }
    for (const verified::Fault& fault : walk.faults)
      log(fmt::format("verified boot: {}: {}", fault.partition, fault.message));
    if (walk.verification_disabled) log("verified boot: switched off by vbmeta's flags");
    if (const verified::Fault* fault = walk.first_stop(state.locked)) return refused(*fault);
    if (const verified::Fault* fault = walk.first_stop(true)) {
      warning_ =
          fmt::format("The unlocked phone shows its warning and goes on: {}", fault->message);
      log("verified boot: unlocked, goes on");
    } else if (!walk.verification_disabled) {
      log("verified boot: valid");
    }
    return guard();
  }

  bool refused(const verified::Fault& fault) {
    const bool index = fault.code == FindingCode::RollbackIndex;
    return stop(
        index ? StartCause::Rollback : StartCause::NotVerified,
        phone_.state.locked
            ? fmt::format("The bootloader is locked and refuses the start: {}{}", fault.message,
                          look_.walk.verification_disabled || !look_.changed()
                              ? ""
                              : " Verification is still on, and what is changed is not "
                                "signed for this phone.")
            : fmt::format("Even unlocked the bootloader refuses the start: {}", fault.message));
  }

  /// Of a phone with a download mode.
  bool guard() {
    const DownloadMode& mode = phone_.state.download;
    if (!mode.there || !mode.strict || look_.set.find("vbmeta") == nullptr) return true;
    const bool off = look_.walk.verification_disabled && look_.walk.hashtrees_disabled;
    std::vector<std::string> changed;
    for (const std::string& name : look_.changed_names)
      if (is_boot_class(without_slot(name))) changed.push_back(name);
    if (off || changed.empty()) return true;
    return stop(StartCause::VbmetaNotAlong,
                fmt::format("{} is changed, and no vbmeta with flags 3 was handed over with it: "
                            "this phone starts a changed image beside such a vbmeta only.",
                            fmt::join(changed, ", ")));
  }

  bool kernel() {
    if (once_ != nullptr) log("loader: an image is started that is not written");
    if (!look_.joined.parts.empty()) {
      std::vector<std::string_view> packed;
      for (const Ramdisk* one : look_.joined.parts)
        packed.push_back(compression_name(one->compression()));
      log(fmt::format("kernel: {} unpacked ({}), the last of {}", counted(packed.size(), "ramdisk"),
                      fmt::join(packed, ", "), look_.joined.last_partition));
    }
    const Finding* worst = nullptr;
    for (const Finding& one : look_.findings) {
      if (one.level != Level::Problem || kind_of(one.id.code).locked_only) continue;
      if (stock_ && stock_->troubles.contains(trouble_text(one))) continue;
      const bool of_chain = std::ranges::any_of(
          look_.walk.faults, [&](const auto& fault) { return fault.message == one.message; });
      if (!of_chain && worst == nullptr) worst = &one;
    }
    if (worst != nullptr)
      return stop(
          cause_of(*worst),
          fmt::format("The phone does not come up{}: {}",
                      worst->where.empty() ? "" : " with this " + worst->where, worst->message));
    if (stock_)
      std::erase_if(look_.unknown,
                    [&](const std::string& one) { return stock_->troubles.contains(one); });
    // What the phone has of its own is taken to be as it was.
    if (!look_.unknown.empty() && (!stock_ || stock_->own.empty())) {
      decide(StartVerdict::CannotTell, StartCause::NotKnown,
             fmt::format("Whether it starts cannot be told: {}.", fmt::join(look_.unknown, "; ")));
      log(out_.reason);
      return false;
    }
    if (!look_.joined.parts.empty()) log("kernel: /init is run");
    return true;
  }

  [[nodiscard]] StartCause cause_of(const Finding& finding) const {
    switch (finding.id.code) {
      case FindingCode::Kernel: return StartCause::NoKernel;
      case FindingCode::RamdiskPacking: return StartCause::RamdiskFormat;
      case FindingCode::JoinedRamdisk:
        if (look_.joint_breaks()) return StartCause::RamdiskJoint;
        return find_joined(look_.joined, "init") ? StartCause::FirstProgram
                                                 : StartCause::NoFirstProgram;
      case FindingCode::ProgramPages: return StartCause::FirstProgram;
      case FindingCode::MountTable:
      case FindingCode::TextForm: return StartCause::MountTable;
      case FindingCode::HeaderForm:
      case FindingCode::SectionBounds:
      case FindingCode::FragmentTable:
      case FindingCode::VersionPair: return StartCause::ImageForm;
      default: return StartCause::OtherRule;
    }
  }

  bool system() {
    PhoneState& state = phone_.state;
    if (state.update == UpdateState::Merging ||
        (state.update == UpdateState::Snapshotted && look_.changed()))
      return stop(
          StartCause::UpdateHalfDone,
          fmt::format("An over-the-air update is not finished ({}), and {} was written "
                      "meanwhile: the system and what starts it are of two builds.",
                      update_word(state.update),
                      look_.changed() ? fmt::format("{}", fmt::join(look_.changed_names, ", "))
                                      : "a partition"));
    return data();
  }

  /// Whether the key store gives the keys of the user's data out.
  bool data() {
    PhoneState& state = phone_.state;
    const bool header = look_.walk.verification_disabled && state.level_from_header;
    const std::string level = patch_level_of(look_.set, header);
    const std::string bound = state.data.bound_to;
    if (!bound.empty() && !state.data.wiped) {
      if (level.empty() && header) {
        state.data.unreadable = true;
        return stop(StartCause::DataUnreadable,
                    "The system starts and cannot read the user's data: with verification switched "
                    "off this loader reads no patch level, the boot header has none, and the key "
                    "store gives no keys. Switch the hash trees off alone (flags 1), or erase the "
                    "data.");
      }
      if (!level.empty() && level < bound) {
        state.data.unreadable = true;
        return stop(StartCause::PatchLevel,
                    fmt::format("The system starts and cannot read the user's data: its keys are "
                                "bound to the patch level {}, these images have {}. Write images "
                                "of {} or later, or erase the data.",
                                bound, level, bound));
      }
      if (state.download.there && state.download.strict && look_.walk.verification_disabled) {
        state.data.unreadable = true;
        return stop(StartCause::DataUnreadable,
                    "The first start with a vbmeta of other flags cannot read the user's data: "
                    "recovery has to set the phone back to its factory state first.");
      }
    }
    log(state.data.wiped ? "system: the user's data is set up anew" : "system: the data is read");
    if (!level.empty()) state.data.bound_to = std::max(level, bound);
    return true;
  }

  void finish() {
    PhoneState& state = phone_.state;
    if (!out_.slot.empty()) state.slots[out_.slot] = {};
    if (look_.changed()) state.fuse = true;
    if (state.download.there && look_.walk.verification_disabled) state.download.strict = false;
    if (state.update == UpdateState::Snapshotted) state.update = UpdateState::None;
    for (const verified::ChainStruct& one : look_.walk.structs)
      if (one.found && !look_.walk.verification_disabled)
        state.rollback[one.location] = std::max(state.rollback[one.location], one.rollback_index);
    out_.addon = look_.addon;
    decide(StartVerdict::Starts, StartCause::None, "The phone starts.");
    if (!state.data.wiped && warning_.empty() && state.locked)
      log("system: up, the phone is locked");
    if (!warning_.empty())
      decide(StartVerdict::StartsWithWarning, StartCause::VerificationWarns, warning_);
    judge_slot();
    judge_ramdisk();
    restore_recovery();
    log(fmt::format("system: up{}", out_.addon == AddonSeen::Seen ? ", the add-on runs" : ""));
  }

  /// It starts from a slot that nothing was written to.
  void judge_slot() {
    if (out_.slot.empty()) return;
    const std::string other = "_" + (out_.slot == "a" ? std::string("b") : std::string("a"));
    const std::string own = "_" + out_.slot;
    bool here = false, there = false;
    for (const std::string& name : phone_.state.written) {
      here = here || name.ends_with(own);
      there = there || name.ends_with(other);
    }
    if (fallen_) {
      decide(
          StartVerdict::OtherSlot, fallen_->first,
          fmt::format("The phone starts from slot {}: {}", out_.slot, sentence(fallen_->second)));
      return;
    }
    if (there && !here && look_.addon != AddonSeen::Seen)
      decide(StartVerdict::OtherSlot, StartCause::SlotNotWritten,
             fmt::format("Only slot {} was written; the phone starts from {}.",
                         out_.slot == "a" ? "b" : "a", out_.slot));
  }

  static std::string sentence(std::string text) {
    if (!text.ends_with('.')) text += '.';
    return text;
  }

  /// A ramdisk that carries what a recipe put in, and that nothing runs.
  void judge_ramdisk() {
    if (!out_.starts() || look_.addon != AddonSeen::NotSeen || look_.asleep.empty()) return;
    const std::string& from = look_.joined.last_partition;
    const bool skips = from.empty() || from == look_.asleep;
    if (look_.asleep == "recovery") {
      decide(out_.verdict, out_.cause,
             out_.reason + " What was put into recovery runs there alone.");
      out_.addon = AddonSeen::Seen;
      return;
    }
    decide(out_.verdict == StartVerdict::Starts ? StartVerdict::StartsWithWarning : out_.verdict,
           StartCause::OtherRamdisk,
           fmt::format(
               "The phone starts, and what was put into {} never runs: {}.", look_.asleep,
               skips ? "its kernel skips the ramdisk" : "its first ramdisk comes from " + from));
  }

  /// A system that starts writes its own recovery back.
  void restore_recovery() {
    PhoneState& state = phone_.state;
    const bool changed = std::ranges::any_of(look_.changed_names, [](const std::string& name) {
      return without_slot(name) == "recovery";
    });
    if (!state.restores_recovery || state.recovery_ran || !changed || !stock_) return;
    const auto at = stock_->images.find("recovery");
    if (at == stock_->images.end()) return;
    if (!phone_.replace("recovery", at->second.source)) return;
    state.written.erase("recovery");
    log("system: its own recovery is written back");
    if (!out_.starts()) return;
    if (look_.asleep == "recovery" || look_.recovery_alone) out_.addon = AddonSeen::NotSeen;
    decide(StartVerdict::StartsWithWarning, StartCause::RecoveryRestored,
           "The system started first and wrote its own recovery back: what was written to recovery "
           "is gone. Start recovery straight after writing it.");
  }

  SimulatedPhone& phone_;
  const StockStatePtr& stock_;
  const SourcePtr& once_;
  PoweredOn out_;
  StartLook look_;
  std::string warning_;
  std::optional<std::pair<StartCause, std::string>> fallen_;
  StartStage stage_ = StartStage::Loader;
};

}  // namespace

Result<PoweredOn> power_on(SimulatedPhone& phone, const StockStatePtr& stock,
                           const SourcePtr& once) {
  return PowerOn(phone, stock, once).run();
}

}  // namespace wexlo
