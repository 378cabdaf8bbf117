#include "kit/plan/planner.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <ranges>

#include "base/contains.hpp"
#include "kit/plan/steps.hpp"

namespace wexlo {
namespace {

using namespace steps;

/// One direction of a plan, put together step by step.
class Planner {
 public:
  Planner(const PlanFacts& facts, bool back) : facts_(facts), back_(back) {}

  std::vector<Step> run() {
    add(ready(facts_, back_));
    if (facts_.way == Way::Download)
      download();
    else
      bootloader();
    finish();
    return std::move(steps_);
  }

 private:
  [[nodiscard]] auto written() const {
    return facts_.images | std::views::filter(&KitImage::written);
  }

  void add(Step step) { steps_.push_back(std::move(step)); }

  void mode(Mode wanted) {
    if (mode_ == wanted) return;
    mode_ = wanted;
    add(enter(facts_, wanted));
  }

  void checks() {
    if (!facts_.products.empty())
      add(expect("device", "product", facts_.products,
                 "The images are for this device and no other."));
    else if (!back_)
      add(which_phone(facts_));
    // Whoever locked it with a key of their own has to unlock it for the way back, too.
    if (back_ ? facts_.needs == Needs::OwnKey : facts_.locked == true) add(unlock(facts_));
    add(expect("unlocked", "unlocked", "yes", "A locked bootloader refuses every write."));
    if (facts_.slotted && !facts_.this_slot.empty()) {
      const std::string slot =
          back_ && lands_elsewhere() ? other_slot(facts_.this_slot) : facts_.this_slot;
      // Loaders answer with the suffix or without.
      add(expect("slot-now", "current-slot", fmt::format("{0}|_{0}", slot),
                 back_ ? "What is put back was written for a phone that starts from this slot."
                       : "The plan was made for a phone that starts from this slot."));
      if (!back_ && !facts_.restore)
        for (Step& step : slot_state(slot))
          add(std::move(step));
    }
    if (facts_.slotted) add(no_update_running());
    if (!back_ && facts_.anti_rollback) add(anti_rollback(*facts_.anti_rollback));
    for (const KitImage& image : written())
      if (!back_ && !image.is_logical()) add(room_for(image, facts_));
  }

  void bootloader() {
    mode(Mode::Bootloader);
    checks();
    if (back_ && facts_.install) return take_install_back();
    if (!back_ && facts_.trial_start) try_first();
    if (!back_) first_the_system();
    if (back_)
      logical_back();
    else
      logical();
    writes();
    if (!back_ && lands_elsewhere()) add(choose_slot(facts_, false));
  }

  /// The patched boot once, before anything is written; then back for the writes.
  void try_first() {
    for (const KitImage& image : written()) {
      if (image.partition != "boot" || image.flash.file.empty()) continue;
      add(trial_start(image));
      Step again = enter(facts_, Mode::Bootloader);
      again.id = "back-to-bootloader";
      add(std::move(again));
    }
  }

  /// The phone's own installer writes the slot that it does not start from.
  [[nodiscard]] bool lands_elsewhere() const {
    const bool update = facts_.update && facts_.update->over_the_air && facts_.slotted;
    return update || (facts_.install && facts_.install->other_slot);
  }

  void first_the_system() {
    if (facts_.update) {
      if (facts_.update->over_the_air) {
        mode(Mode::Recovery);
        add(install_update(facts_));
      } else {
        add(write_package(facts_));
      }
    }
    if (facts_.install) {
      for (const KitImage& image : written())
        if (image.before_install) write_image(image, slotted(SlotRole::Current));
      mode(Mode::Recovery);
      add(install(facts_));
    }
    mode(Mode::Bootloader);
  }

  /// What the installer wrote to the other slot is left there: the former one is chosen again.
  /// Where it wrote over the system, nothing less than the whole package brings that back; it need
  /// not hold anything for the other slot.
  void take_install_back() {
    if (!facts_.install->other_slot) {
      add(whole_package_back(facts_));
      if (facts_.slotted && facts_.slots == Slots::Both)
        for (const KitImage& image : written())
          if (!image.is_logical() && !image.before_install)
            write_image(image, slotted(SlotRole::Other));
      return;
    }
    // By now the phone starts from the slot that was the other one.
    for (const KitImage& image : written())
      if (image.before_install) write_image(image, slotted(SlotRole::Other));
    add(choose_slot(facts_, true));
  }

  void logical() {
    const bool any = !facts_.room.empty() || std::ranges::any_of(written(), &KitImage::is_logical);
    if (!any) return;
    mode(Mode::Userspace);
    if (std::ranges::any_of(facts_.room, &RoomStep::leftover)) add(cancel_update());
    for (const RoomStep& one : facts_.room)
      add(make_room_step(one, facts_));
    for (const KitImage& image : written())
      if (image.is_logical()) write_image(image, target_slot());
    mode(Mode::Bootloader);
  }

  /// First the partition is as small as it was, then there is room for those that had to go.
  void logical_back() {
    const bool any = !facts_.room.empty() || std::ranges::any_of(written(), &KitImage::is_logical);
    if (!any) return;
    mode(Mode::Userspace);
    for (auto one = facts_.room.rbegin(); one != facts_.room.rend(); ++one)
      if (one->act == RoomAct::Resize) add(unmake_room_step(*one));
    for (const RoomStep& one : facts_.room)
      if (one.act == RoomAct::Drop && !one.leftover) {
        add(unmake_room_step(one));
        for (Step& step : fill_again(one, facts_))
          add(std::move(step));
      }
    for (const KitImage& image : written())
      if (image.is_logical()) write_image(image, target_slot());
    mode(Mode::Bootloader);
  }

  [[nodiscard]] SlotRole slotted(SlotRole slot) const {
    return facts_.slotted ? slot : SlotRole::None;
  }

  [[nodiscard]] SlotRole target_slot() const {
    return slotted(lands_elsewhere() && !back_ ? SlotRole::Other : SlotRole::Current);
  }

  void write_image(const KitImage& image, SlotRole slot) {
    // One that was named with its slot goes there, and once.
    if (!slot_suffix(image.partition).empty()) slot = SlotRole::None;
    // What was the other slot is the one that the phone starts from when the way back begins.
    const SlotRole undo_slot = !lands_elsewhere()          ? slot
                               : slot == SlotRole::Current ? SlotRole::Other
                               : slot == SlotRole::Other   ? SlotRole::Current
                                                           : SlotRole::None;
    for (Step& step : writes_of(image, slot, undo_slot, back_, facts_))
      add(std::move(step));
  }

  void writes() {
    std::vector<SlotRole> slots{target_slot()};
    if (facts_.slotted && facts_.slots == Slots::Both && !lands_elsewhere())
      slots = {SlotRole::Current, SlotRole::Other};
    // After an update the patched images stand in the slot that the phone starts from by then.
    for (const SlotRole slot : slots)
      for (const KitImage& image : written()) {
        if (image.is_logical() || (facts_.install && image.before_install)) continue;
        const bool once = slot != slots.front() && !slot_suffix(image.partition).empty();
        if (!once) write_image(image, slot);
      }
  }

  void download() {
    if (!back_) add(which_phone(facts_));
    // Its maker's own images are taken by a locked phone, too.
    if (!back_ && !facts_.restore) {
      if (facts_.locked == true) {
        mode(Mode::Download);
        add(unlock(facts_));
      }
      add(start_online(facts_));
      mode_.reset();
    }
    mode(Mode::Download);
    if (back_ && facts_.writes_vbmeta) return add(whole_package_back(facts_));
    if (back_ && facts_.install) return add(whole_package_back(facts_));
    if (!back_ && facts_.update) add(hand_over_package(facts_));
    if (!back_ && facts_.install) {
      if (!facts_.first_tar.file.empty())
        add(hand_over_tar(facts_, facts_.first_tar, TarUse::First));
      mode(Mode::Recovery);
      add(install(facts_));
      mode(Mode::Download);
    }
    const KitFile& tar = back_ ? facts_.stock_tar : facts_.tar;
    if (!tar.file.empty()) add(hand_over_tar(facts_, tar, back_ ? TarUse::Stock : TarUse::Images));
  }

  void finish() {
    // Another system's data is of no use to stock; what a patch ran on is.
    const bool wipes = back_ ? facts_.other_system : facts_.wipe;
    if (!back_ && !wipes && resets_first()) {
      mode(Mode::Recovery);
      add(first_reset());
    }
    if (wipes && facts_.way == Way::Download) mode(Mode::Recovery);
    if (wipes) add(wipe(facts_, back_));
    if (!back_ && facts_.needs == Needs::OwnKey) add(lock_with_key(facts_));
    if (!back_ && (facts_.recovery_only || facts_.own_recovery) && mode_ != Mode::Recovery) {
      add(straight_to_recovery(facts_));
      mode_ = Mode::Recovery;
    }
    add(restart(facts_, mode_));
    add(after_start(facts_, back_));
  }

  [[nodiscard]] bool resets_first() const {
    return facts_.way == Way::Download && !facts_.restore && facts_.writes_vbmeta;
  }

  const PlanFacts& facts_;
  bool back_;
  std::optional<Mode> mode_;
  std::vector<Step> steps_;
};

bool loses_data(const std::vector<Step>& steps) {
  return std::ranges::any_of(steps, [](const Step& step) { return step.risk.data_loss; });
}

/// What is lost, and what no step brings back: said before anything is done.
std::vector<std::string> warnings(const PlanFacts& facts, const std::vector<Step>& steps) {
  std::vector<std::string> out = facts.first;
  if (loses_data(steps))
    out.emplace_back(
        "The user's data is erased on the way: the owner has to agree and to have a "
        "copy of what matters.");
  const bool unlocks = contains(steps, "unlock", &Step::id);
  if (unlocks || (!facts.locked && !facts.restore))
    out.push_back(
        fmt::format("{} erases the phone, and may trip a maker's warranty fuse or end "
                    "services that want a locked phone: neither can be undone.",
                    unlocks ? "Unlocking" : "Unlocking a phone that is locked still"));
  if (!facts.restore && facts.way == Way::Download)
    out.emplace_back(
        "The first start of a changed image may trip the maker's warranty fuse, "
        "which cannot be undone.");
  if (!facts.restore && facts.needs == Needs::Unlocked)
    out.emplace_back(
        "Never lock the bootloader while changed images are on the phone: it would "
        "not start, and may not let itself be unlocked again.");
  for (const Step& step : steps)
    if (step.is<act::Drop>()) out.push_back(step.about);
  return out;
}

}  // namespace

Plan make_plan(const PlanFacts& facts) {
  Plan plan{.device = facts.device,
            .build = facts.build,
            .needs = facts.needs,
            .needs_why = facts.needs_why,
            .key_file = facts.key_file,
            .key_sha256 = facts.key_sha256,
            .first = {},
            .steps = Planner(facts, false).run(),
            .back = Planner(facts, true).run(),
            .back_first = {}};
  plan.first = warnings(facts, plan.steps);
  // A step back that is not there is none.
  for (Step& step : plan.steps)
    if (!contains(plan.back, step.undo, &Step::id) && !step.is<act::ByHand>()) step.undo.clear();
  if (loses_data(plan.back))
    plan.back_first.emplace_back("The user's data is erased on the way back.");
  if (facts.way == Way::Download && facts.writes_vbmeta && !facts.stock_tar.file.empty())
    plan.back_first.push_back(
        fmt::format("{} must not be handed over alone: the way back is the "
                    "whole stock package with its wiping part.",
                    facts.stock_tar.file));
  if (!facts.room.empty())
    plan.back_first.push_back(
        fmt::format("Logical partitions that had to go are made again; their contents are {}.",
                    facts.contents.empty() ? facts.contents_source : "in the kit's stock folder"));
  return plan;
}

}  // namespace wexlo
