#include "kit/plan/plan_steps.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/firmware.hpp"
#include "text/text.hpp"

namespace wexlo::steps {
namespace {

constexpr unsigned kSecondsPerWrite = 5, kSecondsPerMode = 30;
constexpr std::uint64_t kBytesPerSecond = 20u << 20;

/// The technician's own words, where the sheet has them.
std::vector<std::string> notes(const PlanFacts& facts, std::initializer_list<const char*> names) {
  std::vector<std::string> out;
  for (const char* name : names)
    if (const auto at = facts.access.find(name); at != facts.access.end())
      out.push_back(at->second);
  return out;
}

constexpr std::string_view kManual = " Keys and screens are in the phone's own manual.";

unsigned seconds_for(std::uint64_t bytes) {
  return kSecondsPerWrite +
         static_cast<unsigned>(std::min<std::uint64_t>(bytes, 1ull << 40) / kBytesPerSecond);
}

std::string where(const std::string& slot) {
  return slot.empty()        ? ""
         : slot == "current" ? " to the slot the phone starts from"
                             : " to the other slot";
}

/// The same write, piece by piece.
std::vector<Step> one_for_each(const std::vector<PlanFile>& pieces, const Step& whole) {
  std::vector<Step> out;
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    Step one = whole;
    if (pieces.size() > 1) {
      one.piece = fmt::format("{} of {}", i + 1, pieces.size());
      one.about = fmt::format("{} Piece {}: the whole is larger than one download.", whole.about,
                              one.piece);
    }
    if (i > 0) one.id += fmt::format("-{}", i + 1);
    one.file = pieces[i].file;
    one.size = pieces[i].size;
    one.sha256 = pieces[i].sha256;
    one.usual_seconds = seconds_for(one.size);
    out.push_back(std::move(one));
  }
  return out;
}

std::string write_id(const PlanImage& image, const std::string& slot, bool back) {
  return fmt::format("{}-{}{}{}", back ? "back" : "write", image.partition, slot.empty() ? "" : "-",
                     slot);
}

}  // namespace

Step ready(const PlanFacts& facts, bool back) {
  std::string about =
      "The battery holds at least 30 %, the cable sits well, and nobody needs the phone for half "
      "an hour.";
  if (!back && (facts.wipe || facts.lock == "locked"))
    about += " The owner has a copy of all that matters.";
  Step step{.id = "ready",
            .act = "person",
            .about = std::move(about),
            .before = "the kit is whole: wexlo check says so",
            .success = "all of it is so",
            .usual_seconds = 120};
  if (!back) step.notes = notes(facts, {"accounts", "secure_startup", "updates", "notes"});
  return step;
}

Step enter(const PlanFacts& facts, const std::string& mode, bool) {
  struct Mode {
    std::string_view name, about, screen;
  };
  static constexpr Mode kModes[] = {
      {"bootloader", "Brings the phone into its bootloader.",
       "the bootloader's own screen, mostly with the device's name and its lock state"},
      {"userspace",
       "Brings the phone into the userspace mode, the only one that writes logical partitions.",
       "a menu that names this mode"},
      {"download", "Brings the phone into download mode.",
       "a screen that says that something is being downloaded"},
      {"recovery", "Starts recovery.", "recovery's menu"},
  };
  const auto* row = std::ranges::find(kModes, mode, &Mode::name);
  Step step{.id = "to-" + mode,
            .act = "mode",
            .about = std::string(row->about),
            .before = "the phone is on, or can be switched on",
            .success = "the screen is there, and the phone answers",
            .usual_seconds = kSecondsPerMode,
            .value = mode,
            .screen = std::string(row->screen),
            .notes = notes(facts, {row->name.data()})};
  if (step.notes.empty()) step.about += kManual;
  return step;
}

Step expect(std::string id, std::string variable, std::string value, std::string about) {
  return {.id = std::move(id),
          .act = "expect",
          .about = std::move(about),
          .before = "the phone is in its bootloader and connected",
          .success = "the variable has the value",
          .variable = std::move(variable),
          .value = std::move(value)};
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
  step.at_most = number;
  step.success = "the variable is at most that number; a phone that does not know it may go on";
  return step;
}

Step room_for(const PlanImage& image, const PlanFacts& facts) {
  // Many bootloaders know the sizes by the names with a slot alone.
  const std::string slot =
      facts.slotted && !facts.this_slot.empty() && slot_suffix(image.partition).empty()
          ? "_" + facts.this_slot
          : std::string();
  Step step = expect("room-" + image.partition, "partition-size:" + image.partition + slot, "",
                     fmt::format("{} has to hold {} bytes.", image.partition, image.size));
  step.at_least = image.size;
  step.success = "the variable is at least that number; a phone that does not know it may go on";
  return step;
}

Step unlock(const PlanFacts& facts) {
  return {.id = "unlock",
          .act = "person",
          .about =
              "Unlocks the bootloader, in the way its maker has for that. This erases the "
              "phone.",
          .before = "the owner has agreed and has a copy of what matters",
          .success = "the bootloader says that it is unlocked",
          .data_loss = true,
          .final = true,
          .usual_seconds = 300,
          .screen = "a question on the phone, to be answered there",
          .notes = notes(facts, {"unlock"})};
}

std::vector<Step> writes_of(const PlanImage& image, const std::string& slot,
                            const std::string& undo_slot, bool back, const PlanFacts& facts) {
  const std::string& file = back ? image.stock_file : image.flash_file;
  const auto& pieces = back ? image.stock_pieces : image.pieces;
  Step step{.id = write_id(image, slot, back),
            .act = "write",
            .before = "the expectations above held",
            .success = "the phone answers that the write is done",
            .partition = image.partition,
            .slot = slot,
            .file = file,
            .sha256 = back ? image.stock_sha256 : image.flash_sha256,
            .size = back ? image.stock_size : image.size};
  step.about =
      fmt::format("Writes the {} {}{}.", back ? "stock" : image.what, image.partition, where(slot));
  step.usual_seconds = seconds_for(step.size);
  if (!back) step.undo = write_id(image, undo_slot, true);
  if (file.empty() && pieces.empty()) {
    step.act = "person";
    step.about = fmt::format("Writes the stock {}{}, which is in {}, not in this kit.",
                             image.partition, where(slot), facts.contents_source);
    return {step};
  }
  return pieces.empty() ? std::vector{step} : one_for_each(pieces, step);
}

std::string other_slot(const std::string& slot) {
  return slot.empty() ? "" : slot == "a" ? "b" : "a";
}

Step choose_slot(const PlanFacts& facts, bool back) {
  return {.id = back ? "slot-back" : "slot-other",
          .act = "slot",
          .about = back ? "Chooses the slot again that the phone started from before."
                        : "Chooses the slot that the new system stands in.",
          .before = "every write above was done",
          .success = "the phone says that it starts from that slot",
          .undo = back ? "" : "slot-back",
          .value = back ? facts.this_slot : other_slot(facts.this_slot),
          .slot = "other"};
}

Step make_room_step(const RoomStep& one, const PlanFacts& facts) {
  const bool drop = one.act == "drop";
  Step step{
      .id = fmt::format("{}-{}", one.act, one.partition),
      .act = one.act,
      .before = "the phone is in its userspace mode",
      .success = "the phone answers that it is done",
      .undo = drop ? (one.leftover ? "" : "create-" + one.partition) : "back-size-" + one.partition,
      .final = drop && one.leftover,
      .usual_seconds = 5,
      .partition = one.partition,
      .size = drop ? 0 : one.after};
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
  const bool drop = one.act == "drop";
  return {
      .id = (drop ? "create-" : "back-size-") + one.partition,
      .act = drop ? "create" : "resize",
      .about = fmt::format("{} the logical partition {} {} {}.", drop ? "Makes" : "Resizes",
                           one.partition, drop ? "again, with" : "back to", human_size(one.before)),
      .before = "the phone is in its userspace mode",
      .success = "the phone answers that it is done",
      .usual_seconds = 5,
      .partition = one.partition,
      .size = one.before};
}

std::vector<Step> fill_again(const RoomStep& one, const PlanFacts& facts) {
  Step step{.id = "fill-" + one.partition,
            .act = "write",
            .before = "the partition was made again",
            .success = "the phone answers that the write is done",
            .partition = one.partition};
  const auto at = facts.contents.find(one.partition);
  if (at != facts.contents.end()) {
    step.about = fmt::format("Writes the stock contents of {}.", one.partition);
    return one_for_each(at->second, step);
  }
  step.act = "person";
  step.about =
      fmt::format("Fills {} again from {}: {}.", one.partition, facts.contents_source, one.loss);
  step.usual_seconds = 300;
  return {step};
}

}  // namespace wexlo::steps
