#pragma once
/// A phone that does not do as it should, with its true cause: what diagnosing is tried on.

#include "base/contains.hpp"
#include "diagnose/diagnose.hpp"
#include "support/patching.hpp"
#include "support/start_bench.hpp"

namespace wexlo::test {

struct BrokenPhone {
  std::string name;
  Cause cause;
  StockPhone stock{};
  std::optional<StockPhone> now{};     ///< what is on it; nullopt: as `stock`
  std::vector<std::string> written{};  ///< partitions of `now` that were written
  std::optional<Symptom> symptom{};
  std::string seen{};               ///< text that was saved of it
  std::string sheet{};              ///< TOML
  std::string slot = "a";           ///< that was written; empty: of one slot
  std::vector<PlayedStep> steps{};  ///< of the flash log
  std::string patch_level = "2020-10-05";
  bool with_kit = true;                ///< else a folder of images
  std::vector<std::string> dropped{};  ///< logical partitions that went for another system
  std::vector<std::string> without{};  ///< partitions whose footer is lost
};

/// A plan that writes what was written, for the log to be read by.
inline Plan plan_of(const BrokenPhone& broken) {
  Plan out{.device = "gnomon"};
  for (const std::string& name : broken.written)
    out.steps.push_back({.id = "write-" + name,
                         .act = act::Write{.partition = name, .file = {"flash/" + name + ".img"}}});
  out.steps.push_back({.id = "resize-system", .act = act::Resize{"system_a", 1}});
  return out;
}

/// @return how many causes rank before the true one; nullopt: it is not among them
inline std::optional<std::size_t> place_of_cause(const BrokenPhone& broken,
                                                 Diagnosis* told = nullptr) {
  const auto stock = broken.stock.images();
  const auto now = (broken.now ? *broken.now : broken.stock).images();
  DiagnoseInput input{.given = {}, .stock = stock, .symptom = broken.symptom};
  for (const std::string& name : broken.written) {
    SourcePtr image = now.at(name);
    if (contains(broken.without, name)) {
      // As long as it was, and without what stood at its end.
      Bytes bytes = value_of(read_some(*image, 0, image->size()));
      std::fill(bytes.end() - 4096, bytes.end(), std::byte{0});
      image = open_memory(Blob(std::move(bytes)), name);
    }
    input.given[name] = image;
  }
  const Plan plan = plan_of(broken);
  KitManifest kit{.device = "gnomon", .patch_level = broken.patch_level};
  if (!broken.dropped.empty()) {
    RoomPlan room{.fits = true};
    for (const std::string& name : broken.dropped)
      room.steps.push_back({.act = RoomAct::Drop, .partition = name});
    kit.super = SuperChange{.before = {}, .rooms = {room}, .other_system = true};
  }
  Expected expected{.device = "gnomon",
                    .slotted = broken.stock.slotted,
                    .slot = broken.slot,
                    .needs = Needs::Unlocked,
                    .shows = {"tide bench: up"}};
  const std::vector<LoggedRun> runs{
      {.serial = "S", .slot = broken.slot, .steps = broken.steps, .ended = true}};
  Observed observed;
  if (!broken.seen.empty()) read_observed(broken.seen, "phone.txt", observed);
  std::optional<Sheet> sheet;
  if (!broken.sheet.empty()) sheet = value_of(parse_sheet(broken.sheet, "sheet.toml"));
  if (broken.with_kit) {
    input.kit = &kit;
    input.expected = &expected;
    input.plan = &plan;
    if (!broken.steps.empty()) input.runs = &runs;
  }
  if (sheet) input.sheet = &*sheet;
  if (!broken.seen.empty()) input.observed = &observed;
  Diagnosis diagnosis = value_of(diagnose(input, {}));
  const auto at = std::ranges::find(diagnosis.causes, broken.cause, &RankedCause::cause);
  std::optional<std::size_t> out;
  if (at != diagnosis.causes.end()) out = static_cast<std::size_t>(at - diagnosis.causes.begin());
  if (told != nullptr) *told = std::move(diagnosis);
  return out;
}

inline std::string told_text(const Diagnosis& diagnosis) {
  std::string out;
  for (const RankedCause& one : diagnosis.causes) {
    out += fmt::format("{} {}\n", one.rank, row_of(one.cause).code);
    for (const Evidence& evidence : one.evidence)
      out += fmt::format("    +{} {} [{}]\n", evidence.weight, evidence.text, evidence.where);
    for (const Evidence& evidence : one.against)
      out += fmt::format("    {} {} [{}]\n", evidence.weight, evidence.text, evidence.where);
  }
  return out;
}

/// @return how many causes rank before the true one, which has to be among the first two
inline std::size_t check_among_first_two(const BrokenPhone& broken) {
  CAPTURE(broken.name);
  Diagnosis told;
  const auto place = place_of_cause(broken, &told);
  CAPTURE(told_text(told));
  REQUIRE(place);
  CHECK(*place < 2);
  if (*place != 0) MESSAGE(broken.name << ": second\n" << told_text(told));
  return *place;
}

}  // namespace wexlo::test
