/// Steps that a wire performs, and those that lead there.

#include <fmt/format.h>

#include <algorithm>

#include "kit/plan/steps.hpp"
#include "text/text.hpp"

namespace wexlo::steps {
namespace {

constexpr unsigned kSecondsPerMode = 30;

/// The technician's own words, where the sheet has them.
std::vector<std::string> notes(const PlanFacts& facts,
                               std::initializer_list<std::string_view> names) {
  std::vector<std::string> out;
  for (const std::string_view name : names)
    if (const auto at = facts.access.find(std::string(name)); at != facts.access.end())
      out.push_back(at->second);
  return out;
}

constexpr std::string_view kManual = " Keys and screens are in the phone's own manual.";

std::string_view where(SlotRole slot) {
  return slot == SlotRole::None      ? ""
         : slot == SlotRole::Current ? " to the slot the phone starts from"
                                     : " to the other slot";
}

/// The same write, piece by piece.
std::vector<Step> one_for_each(const std::vector<KitFile>& pieces, const Step& whole) {
  std::vector<Step> out;
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    Step one = whole;
    auto& write = std::get<act::Write>(one.act);
    write.file = pieces[i];
    if (pieces.size() > 1) {
      write.piece = static_cast<unsigned>(i) + 1;
      write.pieces = static_cast<unsigned>(pieces.size());
      one.about = fmt::format("{} Piece {} of {}: the whole is larger than one download.",
                              whole.about, write.piece, write.pieces);
    }
    if (i > 0) one.id += fmt::format("-{}", i + 1);
    one.usual_seconds = usual_write_seconds(write.file.size);
    out.push_back(std::move(one));
  }
  return out;
}

std::string write_id(const KitImage& image, SlotRole slot, bool back) {
  return fmt::format("{}-{}{}{}", back ? "back" : "write", image.partition,
                     slot == SlotRole::None ? "" : "-", slot_word(slot));
}

}  // namespace

Step ready(const PlanFacts& facts, bool back) {
  std::string about =
      "The battery holds at least 30 %, the cable sits well, and nobody needs the phone for half "
      "an hour.";
  if (!back && (facts.wipe || facts.locked == true))
    about += " The owner has a copy of all that matters.";
  Step step{.id = "ready",
            .act = act::ByHand{.task = Task::Ready},
            .about = std::move(about),
            .before = "the kit is whole: wexlo check says so",
            .success = "all of it is so",
            .usual_seconds = 120};
  if (!back) step.notes = notes(facts, {"accounts", "secure_startup", "updates", "notes"});
  return step;
}

Step enter(const PlanFacts& facts, Mode mode) {
  struct Row {
    std::string_view about, screen;
  };
  // In the order of the enum.
  static constexpr Row kRows[] = {
      {"Brings the phone into its bootloader.",
       "the bootloader's own screen, mostly with the device's name and its lock state"},
      {"Brings the phone into the userspace mode, the only one that writes logical partitions.",
       "a menu that names this mode"},
      {"Brings the phone into download mode.",
       "a screen that says that something is being downloaded"},
      {"Starts recovery.", "recovery's menu"},
  };
  const Row& row = kRows[static_cast<std::size_t>(mode)];
  Step step{.id = fmt::format("to-{}", mode_word(mode)),
            .act = act::EnterMode{mode},
            .about = std::string(row.about),
            .before = "the phone is on, or can be switched on",
            .success = "the screen is there, and the phone answers",
            .screen = std::string(row.screen),
            .notes = notes(facts, {mode_word(mode)}),
            .usual_seconds = kSecondsPerMode};
  if (step.notes.empty()) step.about += kManual;
  return step;
}

Step expect(std::string id, std::string variable, std::string value, std::string about) {
  return {.id = std::move(id),
          .act = act::Expect{.variable = std::move(variable),
                             .value = std::move(value),
                             .at_least = {},
                             .at_most = {}},
          .about = std::move(about),
          .before = "the phone is in its bootloader and connected",
          .success = "the variable has the value"};
}

std::vector<Step> slot_state(const std::string& slot) {
  Step bootable = expect(
      "slot-bootable", "slot-unbootable:" + slot, "no",
      "A slot that is marked as one that does not start is passed over: the phone starts the "
      "other one, whatever is written here. The whole package makes it good again.");
  Step successful = expect(
      "slot-successful", "slot-successful:" + slot, "yes",
      fmt::format("A slot that was not marked as started well is left after its last try "
                  "(slot-retry-count:{} says how many there are): let the stock system start "
                  "once first.",
                  slot));
  for (Step* step : {&bootable, &successful})
    step->success = "the variable has the value; a phone that does not know it may go on";
  return {std::move(bootable), std::move(successful)};
}

Step trial_start(const KitImage& image) {
  return {.id = "trial-start",
          .act = act::Start{{image.flash.file, image.flash.size, image.flash.sha256}},
          .about =
              "Starts the patched boot once without writing it: what goes wrong now is gone "
              "after a restart. A loader that starts nothing without writing it says so, and "
              "the plan goes on.",
          .before = "the expectations above held",
          .success = "the system comes up, and what the recipe put in does what it is for",
          .usual_seconds = kPlainStart};
}

Step cancel_update() {
  return {.id = "cancel-update",
          .act = act::CancelUpdate{},
          .about =
              "Cancels what is left of an over-the-air update, before its leftovers are "
              "dropped.",
          .before = "no update waits for its first start",
          .success = "the phone answers that it is done",
          .risk = {.final = true},
          .usual_seconds = 5};
}

Step no_update_running() {
  Step step = expect("no-update", "snapshot-update-status", "none",
                     "While an over-the-air update is not finished, writing to either slot breaks "
                     "the system: let the phone start and finish it first.");
  step.success = "the variable has the value; a phone that does not know it may go on";
  return step;
}

Step anti_rollback(std::uint64_t number) {
  Step step = expect("anti-rollback", "anti", "",
                     "A phone whose own number is higher may be left without anything that "
                     "starts.");
  std::get<act::Expect>(step.act).at_most = number;
  step.success = "the variable is at most that number; a phone that does not know it may go on";
  return step;
}

Step room_for(const KitImage& image, const PlanFacts& facts) {
  // A bootloader knows a slotted partition's size under the name with its slot.
  const std::string slot =
      facts.slotted && !facts.this_slot.empty() && slot_suffix(image.partition).empty()
          ? "_" + facts.this_slot
          : std::string();
  Step step = expect("room-" + image.partition, "partition-size:" + image.partition + slot, "",
                     fmt::format("{} has to hold {} bytes.", image.partition, image.flash.size));
  std::get<act::Expect>(step.act).at_least = image.flash.size;
  step.success = "the variable is at least that number; a phone that does not know it may go on";
  return step;
}

Step unlock(const PlanFacts& facts) {
  return {.id = "unlock",
          .act = act::ByHand{.task = Task::Unlock},
          .about =
              "Unlocks the bootloader, in the way its maker has for that. This erases the "
              "phone.",
          .before = "the owner has agreed and has a copy of what matters",
          .success = "the bootloader says that it is unlocked",
          .screen = "a question on the phone, to be answered there",
          .notes = notes(facts, {"unlock"}),
          .risk = {.data_loss = true, .final = true},
          .usual_seconds = 300};
}

std::vector<Step> writes_of(const KitImage& image, SlotRole slot, SlotRole undo_slot, bool back,
                            const PlanFacts& facts) {
  const KitContent& files = back ? image.stock_files : image.flash;
  Step step{.id = write_id(image, slot, back),
            .about = fmt::format("Writes the {} {}{}.", made_word(back ? Made::Stock : image.made),
                                 image.partition, where(slot)),
            .before = "the expectations above held",
            .success = "the phone answers that the write is done",
            .usual_seconds = usual_write_seconds(files.size)};
  if (!back) step.undo = write_id(image, undo_slot, true);
  if (files.empty()) {
    step.act = act::ByHand{.task = Task::Write, .partition = image.partition, .slot = slot};
    step.about = fmt::format("Writes the stock {}{}, which is in {}, not in this kit.",
                             image.partition, where(slot), facts.contents_source);
    return {step};
  }
  step.act = act::Write{
      .partition = image.partition, .slot = slot, .file = {files.file, files.size, files.sha256}};
  return files.pieces.empty() ? std::vector{step} : one_for_each(files.pieces, step);
}

std::string other_slot(const std::string& slot) {
  return slot.empty() ? "" : slot == "a" ? "b" : "a";
}

Step choose_slot(const PlanFacts& facts, bool back) {
  return {
      .id = back ? "slot-back" : "slot-other",
      .act = act::ChooseSlot{SlotRole::Other, back ? facts.this_slot : other_slot(facts.this_slot)},
      .about = back ? "Chooses the slot again that the phone started from before."
                    : "Chooses the slot that the new system stands in.",
      .before = "every write above was done",
      .success = "the phone says that it starts from that slot",
      .undo = back ? "" : "slot-back"};
}

Step make_room_step(const RoomStep& one, const PlanFacts& facts) {
  const bool drop = one.act == RoomAct::Drop;
  Step step{
      .id = fmt::format("{}-{}", room_act_word(one.act), one.partition),
      .act = drop ? Act(act::Drop{one.partition}) : Act(act::Resize{one.partition, one.after}),
      .before = "the phone is in its userspace mode",
      .success = "the phone answers that it is done",
      .undo = drop ? (one.leftover ? "" : "create-" + one.partition) : "back-size-" + one.partition,
      .risk = {.final = drop && one.leftover},
      .usual_seconds = 5};
  step.about =
      drop ? fmt::format("Drops the logical partition {} ({}). {}{}", one.partition,
                         human_size(one.before), one.why,
                         one.loss.empty() ? "" : fmt::format(" What is lost: {}.", one.loss))
           : fmt::format("Resizes the logical partition {} from {} to {}. {}", one.partition,
                         human_size(one.before), human_size(one.after), one.why);
  if (drop && !one.leftover && !facts.contents.contains(one.partition))
    step.about += fmt::format(" Its contents can be had again from {}.", facts.contents_source);
  return step;
}

Step unmake_room_step(const RoomStep& one) {
  const bool drop = one.act == RoomAct::Drop;
  return {
      .id = (drop ? "create-" : "back-size-") + one.partition,
      .act = drop ? Act(act::Create{one.partition, one.before})
                  : Act(act::Resize{one.partition, one.before}),
      .about = fmt::format("{} the logical partition {} {} {}.", drop ? "Makes" : "Resizes",
                           one.partition, drop ? "again, with" : "back to", human_size(one.before)),
      .before = "the phone is in its userspace mode",
      .success = "the phone answers that it is done",
      .usual_seconds = 5};
}

std::vector<Step> fill_again(const RoomStep& one, const PlanFacts& facts) {
  Step step{.id = "fill-" + one.partition,
            .before = "the partition was made again",
            .success = "the phone answers that the write is done"};
  const auto at = facts.contents.find(one.partition);
  if (at != facts.contents.end()) {
    step.about = fmt::format("Writes the stock contents of {}.", one.partition);
    step.act = act::Write{.partition = one.partition};
    return one_for_each(at->second, step);
  }
  step.act = act::ByHand{.task = Task::Fill, .partition = one.partition};
  step.about =
      fmt::format("Fills {} again from {}: {}.", one.partition, facts.contents_source, one.loss);
  step.usual_seconds = 300;
  return {step};
}

}  // namespace wexlo::steps
