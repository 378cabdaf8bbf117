#include "kit/plan/plan.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "kit/plan/plan_steps.hpp"

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
  void add(Step step) { steps_.push_back(std::move(step)); }

  void mode(std::string_view name) {
    if (mode_ == name) return;
    mode_ = name;
    add(enter(facts_, std::string(name), back_));
  }

  void checks() {
    const std::string& product = facts_.products.empty() ? facts_.device : facts_.products;
    if (!product.empty())
      add(expect("device", "product", product, "The images are for this device and no other."));
    // Whoever locked it with a key of their own has to unlock it for the way back, too.
    if (back_ ? facts_.verification == "own-key" : facts_.lock == "locked") add(unlock(facts_));
    add(expect("unlocked", "unlocked", "yes", "A locked bootloader refuses every write."));
    if (facts_.slotted && !facts_.this_slot.empty())
      add(expect("slot-now", "current-slot",
                 back_ && lands_elsewhere() ? other_slot(facts_.this_slot) : facts_.this_slot,
                 back_ ? "What is put back was written for a phone that starts from this slot."
                       : "The plan was made for a phone that starts from this slot."));
    if (facts_.slotted) add(no_update_running());
    if (!back_ && facts_.anti_rollback) add(anti_rollback(*facts_.anti_rollback));
    for (const PlanImage& image : facts_.images)
      if (!back_ && !image.logical) add(room_for(image, facts_));
  }

  void bootloader() {
    mode("bootloader");
    checks();
    if (back_ && facts_.install) return take_install_back();
    if (!back_) first_the_system();
    if (back_)
      logical_back();
    else
      logical();
    writes();
    if (!back_ && lands_elsewhere()) add(choose_slot(facts_, false));
  }

  /// The phone's own installer writes the slot that it does not start from.
  [[nodiscard]] bool lands_elsewhere() const {
    const bool update = facts_.update && facts_.update->over_the_air && facts_.slotted;
    return update || (facts_.install && facts_.install->other_slot);
  }

  void first_the_system() {
    if (facts_.update) {
      if (facts_.update->over_the_air) {
        mode("recovery");
        add(install_update(facts_));
      } else {
        add(write_package(facts_));
      }
    }
    if (facts_.install) {
      for (const PlanImage& image : facts_.images)
        if (image.before_install) write_image(image, slotted("current"));
      mode("recovery");
      add(install(facts_));
    }
    mode("bootloader");
  }

  /// What the installer wrote to the other slot is left there: the former one is chosen again.
  /// Where it wrote over the system, nothing less than the whole package brings that back; it need
  /// not hold anything for the other slot.
  void take_install_back() {
    if (!facts_.install->other_slot) {
      add(whole_package_back(facts_));
      if (facts_.slotted && facts_.slots == Slots::Both)
        for (const PlanImage& image : facts_.images)
          if (!image.logical && !image.before_install) write_image(image, slotted("other"));
      return;
    }
    // By now the phone starts from the slot that was the other one.
    for (const PlanImage& image : facts_.images)
      if (image.before_install) write_image(image, slotted("other"));
    add(choose_slot(facts_, true));
  }

  void logical() {
    const bool any =
        !facts_.room.empty() || std::ranges::any_of(facts_.images, &PlanImage::logical);
    if (!any) return;
    mode("userspace");
    for (const RoomStep& one : facts_.room)
      add(make_room_step(one, facts_));
    for (const PlanImage& image : facts_.images)
      if (image.logical) write_image(image, target_slot());
    mode("bootloader");
  }

  /// First the partition is as small as it was, then there is room for those that had to go.
  void logical_back() {
    const bool any =
        !facts_.room.empty() || std::ranges::any_of(facts_.images, &PlanImage::logical);
    if (!any) return;
    mode("userspace");
    for (auto one = facts_.room.rbegin(); one != facts_.room.rend(); ++one)
      if (one->act == "resize") add(unmake_room_step(*one));
    for (const RoomStep& one : facts_.room)
      if (one.act == "drop" && !one.leftover) {
        add(unmake_room_step(one));
        for (Step& step : fill_again(one, facts_))
          add(std::move(step));
      }
    for (const PlanImage& image : facts_.images)
      if (image.logical) write_image(image, target_slot());
    mode("bootloader");
  }

  [[nodiscard]] std::string slotted(const char* slot) const { return facts_.slotted ? slot : ""; }

  [[nodiscard]] std::string target_slot() const {
    return slotted(lands_elsewhere() && !back_ ? "other" : "current");
  }

  void write_image(const PlanImage& image, const std::string& slot) {
    // What was the other slot is the one that the phone starts from when the way back begins.
    const std::string undo_slot = !lands_elsewhere()  ? slot
                                  : slot == "current" ? "other"
                                  : slot == "other"   ? "current"
                                                      : "";
    for (Step& step : writes_of(image, slot, back_ ? "" : undo_slot, back_, facts_))
      add(std::move(step));
  }

  void writes() {
    std::vector<std::string> slots{target_slot()};
    if (facts_.slotted && facts_.slots == Slots::Both && !lands_elsewhere())
      slots = {"current", "other"};
    // After an update the patched images stand in the slot that the phone starts from by then.
    for (const std::string& slot : slots)
      for (const PlanImage& image : facts_.images)
        if (!image.logical && !(facts_.install && image.before_install)) write_image(image, slot);
  }

  void download() {
    mode("download");
    // Its maker's own images are taken by a locked phone, too.
    if (!back_ && !facts_.restore && facts_.lock == "locked") add(unlock(facts_));
    if (back_ && facts_.install) return add(whole_package_back(facts_));
    if (!back_ && facts_.update) add(hand_over_package(facts_));
    if (!back_ && facts_.install) {
      if (!facts_.first_tar.file.empty()) add(hand_over_tar(facts_, facts_.first_tar, "first"));
      mode("recovery");
      add(install(facts_));
      mode("download");
    }
    const PlanFile& tar = back_ ? facts_.stock_tar : facts_.tar;
    if (!tar.file.empty()) add(hand_over_tar(facts_, tar, back_ ? "back" : ""));
  }

  void finish() {
    // Another system's data is of no use to stock; what a patch ran on is.
    const bool wipes = back_ ? facts_.other_system : facts_.wipe;
    if (wipes && facts_.way == Way::Download) mode("recovery");
    if (wipes) add(wipe(facts_, back_));
    if (!back_ && facts_.verification == "own-key") add(lock_with_key(facts_));
    if (!back_ && (facts_.recovery_only || facts_.own_recovery) && mode_ != "recovery") {
      add(straight_to_recovery(facts_));
      mode_ = "recovery";
    }
    add(restart(facts_, mode_));
    add(after_start(facts_, back_));
  }

  const PlanFacts& facts_;
  bool back_;
  std::string mode_;
  std::vector<Step> steps_;
};

/// What is lost, and what no step brings back: said before anything is done.
std::vector<std::string> warnings(const PlanFacts& facts, const std::vector<Step>& steps) {
  std::vector<std::string> out;
  if (std::ranges::any_of(steps, &Step::data_loss))
    out.emplace_back(
        "The user's data is erased on the way: the owner has to agree and to have a "
        "copy of what matters.");
  const bool unlocks = contains(steps, "unlock", &Step::id);
  if (unlocks || (facts.lock.empty() && !facts.restore))
    out.push_back(
        fmt::format("{} erases the phone, and may trip a maker's warranty fuse or end "
                    "services that want a locked phone: neither can be undone.",
                    unlocks ? "Unlocking" : "Unlocking a phone that is locked still"));
  if (!facts.restore && facts.way == Way::Download)
    out.emplace_back(
        "The first start of a changed image may trip the maker's warranty fuse, "
        "which cannot be undone.");
  if (!facts.restore && facts.verification == "unlocked")
    out.emplace_back(
        "Never lock the bootloader while changed images are on the phone: it would "
        "not start, and may not let itself be unlocked again.");
  for (const Step& step : steps)
    if (step.act == "drop") out.push_back(step.about);
  return out;
}

}  // namespace

Plan make_plan(const PlanFacts& facts) {
  Plan plan{.device = facts.device,
            .build = facts.build,
            .verification = facts.verification,
            .verification_why = facts.verification_why,
            .key_file = facts.key_file,
            .key_sha256 = facts.key_sha256,
            .first = {},
            .steps = Planner(facts, false).run(),
            .back = Planner(facts, true).run(),
            .back_first = {}};
  plan.first = warnings(facts, plan.steps);
  // A step back that is not there is none.
  for (Step& step : plan.steps)
    if (!contains(plan.back, step.undo, &Step::id) && step.act != "person") step.undo.clear();
  if (std::ranges::any_of(plan.back, &Step::data_loss))
    plan.back_first.emplace_back("The user's data is erased on the way back.");
  if (!facts.room.empty())
    plan.back_first.push_back(
        fmt::format("Logical partitions that had to go are made again; their contents are {}.",
                    facts.contents.empty() ? facts.contents_source : "in the kit's stock folder"));
  return plan;
}

}  // namespace wexlo
