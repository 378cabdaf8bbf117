/// What the phone, its sheet and the flash log say, against the kit.

#include <fmt/format.h>

#include "diagnose/evidence.hpp"
#include "flash/player.hpp"
#include "image/partitions.hpp"

namespace wexlo {
namespace {

/// Something that is known of the phone, and from where.
struct KnownOfPhone {
  std::string value, where;
  explicit operator bool() const { return !value.empty(); }
};

class PhoneEvidence {
 public:
  explicit PhoneEvidence(const DiagnoseInput& input) : in_(input) {}

  EvidenceList run() {
    slot();
    lock();
    update();
    device();
    patch_level();
    dropped();
    log();
    seen();
    return std::move(out_);
  }

 private:
  void add(Cause cause, int weight, std::string text, std::string where = {}) {
    out_.push_back({cause, weight, std::move(text), std::move(where)});
  }

  /// What was seen last is newer than the sheet.
  [[nodiscard]] KnownOfPhone known(Fact fact, std::string_view key) const {
    if (in_.observed != nullptr)
      if (const Seen* one = in_.observed->find(fact)) return {one->value, one->at.text()};
    if (in_.sheet != nullptr && !key.empty()) return {in_.sheet->text(key), "the sheet"};
    return {};
  }

  void slot() {
    const std::string want = in_.expected == nullptr ? "" : in_.expected->slot;
    const KnownOfPhone now = known(Fact::Slot, "state.current_slot");
    if (now && !want.empty()) {
      if (now.value == want)
        add(Cause::WrongSlot, -50, fmt::format("it starts from slot {}, which was written", want),
            now.where);
      else
        add(Cause::WrongSlot, 55,
            fmt::format("slot {} was written, the phone starts from {}", want, now.value),
            now.where);
    }
    if (in_.observed == nullptr) return;
    for (const auto& [name, one] : in_.observed->variables) {
      if (name.starts_with("slot-unbootable:") && one.value == "yes")
        add(Cause::SlotMarked, 45, fmt::format("{} is yes", name), one.at.text());
      if (name.starts_with("slot-retry-count:") && one.value == "0")
        add(Cause::SlotMarked, 35, fmt::format("{} is 0: no try is left", name), one.at.text());
    }
  }

  void lock() {
    const KnownOfPhone now = known(Fact::Lock, "state.lock");
    if (!now) return;
    const bool own = in_.expected != nullptr && in_.expected->needs == Needs::OwnKey;
    if (now.value == "locked" && !own) {
      add(Cause::LockedPhone, 40, "the bootloader is locked", now.where);
      return;
    }
    if (now.value == "unlocked") {
      add(Cause::LockedPhone, -60, "the bootloader is unlocked", now.where);
      add(Cause::Rollback, -10, "an unlocked bootloader mostly looks at no rollback index",
          now.where);
      add(Cause::StaleDigest, -10, "an unlocked bootloader mostly goes on after its warning",
          now.where);
    }
  }

  void update() {
    const KnownOfPhone now = known(Fact::Update, "state.update");
    if (!now) return;
    if (now.value == "none")
      add(Cause::HalfUpdate, -50, "no update is waiting", now.where);
    else
      add(Cause::HalfUpdate, 50, fmt::format("an over-the-air update is {}", now.value), now.where);
  }

  void device() {
    const std::string want = in_.kit == nullptr ? "" : in_.kit->device;
    const KnownOfPhone now = known(Fact::Device, "phone.codename");
    if (!now || want.empty()) return;
    if (now.value == want)
      add(Cause::OtherVariant, -15, fmt::format("the phone is {}, as the kit wants", want),
          now.where);
    else
      add(Cause::OtherVariant, 55,
          fmt::format("the kit is for {}, the phone is {}", want, now.value), now.where);
  }

  void patch_level() {
    const KnownOfPhone before =
        in_.sheet == nullptr ? KnownOfPhone{}
                             : KnownOfPhone{in_.sheet->text("build.patch_level"), "the sheet"};
    const std::string now = in_.kit == nullptr ? "" : in_.kit->patch_level;
    if (!before || now.empty()) return;
    if (now < before.value)
      add(Cause::PatchLevel, 50,
          fmt::format("the images have patch level {}, the phone ran {} before", now, before.value),
          before.where);
    else
      add(Cause::PatchLevel, -40, "the images are not older than what the phone ran", before.where);
  }

  /// Another system mounts what its own list does not name; what went for it is not there.
  void dropped() {
    if (in_.kit == nullptr || !in_.kit->super) return;
    for (const RoomPlan& room : in_.kit->super->rooms)
      for (const RoomStep& step : room.steps) {
        const std::string_view name = without_slot(step.partition);
        if (step.act == RoomAct::Drop && (name == "product" || name == "system_ext"))
          add(Cause::SkipList, 40,
              fmt::format("{} was deleted for another system, which has to know it",
                          step.partition),
              "the kit");
      }
  }

  [[nodiscard]] bool writes(const std::string& id) const {
    if (in_.plan == nullptr) return false;
    for (const auto* steps : {&in_.plan->steps, &in_.plan->back})
      for (const Step& one : *steps)
        if (one.id == id)
          return one.is<act::Write>() || one.is<act::Resize>() || one.is<act::Create>();
    return false;
  }

  void log() {
    if (in_.runs == nullptr || in_.runs->empty()) return;
    const LoggedRun& run = in_.runs->back();
    bool whole = true;
    for (const PlayedStep& step : run.steps) {
      if (!writes(step.id)) continue;
      if (step.outcome == StepOutcome::Unknown || step.outcome == StepOutcome::Failed) {
        whole = false;
        add(Cause::HalfWritten, 50,
            fmt::format("step {} ended as {}{}", step.id, outcome_word(step.outcome),
                        step.detail.empty() ? "" : ": " + step.detail),
            "the flash log");
        // The phone's own words are read as those of a log are.
        if (const auto sign = log_sign_of(step.detail)) {
          Observed said;
          said.signs.push_back({*sign, step.detail, {"the flash log", 0, LineKind::Log}});
          for (Evidence& one : evidence_of_logs(said))
            out_.push_back(std::move(one));
        }
      }
    }
    if (!run.ended) {
      whole = false;
      add(Cause::HalfWritten, 30, "the last run did not come to its end", "the flash log");
    }
    if (whole) add(Cause::HalfWritten, -40, "every write came to its end", "the flash log");
  }

  /// What runs shows that it is read.
  void seen() {
    if (in_.observed == nullptr || in_.expected == nullptr) return;
    for (const std::string& text : in_.expected->shows)
      if (const Seen* line = in_.observed->find_line(text))
        for (const Cause cause : {Cause::OtherRamdisk, Cause::SkipWord, Cause::WrongSlot,
                                  Cause::RamdiskPacking, Cause::RamdiskJoint, Cause::FirstProgram})
          add(cause, -50, "what was put in runs", line->at.text());
  }

  const DiagnoseInput& in_;
  EvidenceList out_;
};

}  // namespace

EvidenceList evidence_of_phone(const DiagnoseInput& input) {
  return PhoneEvidence(input).run();
}

}  // namespace wexlo
