/// What an act does to a phone, and what a phone refuses.

#include "support/plan_facts.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Step one(Act act) {
  return {.id = "it", .act = std::move(act), .before = "b", .success = "s"};
}

/// Plays steps on a phone as it is. @return the last step's outcome
PlayedStep played(WordPhone& phone, const std::vector<Step>& steps) {
  const auto simulated = phone.made();
  SimulatedHands hands(*simulated, {});
  const Played out = play(steps, *simulated, hands, files_of_plan(steps));
  phone.take(*simulated);
  REQUIRE_FALSE(out.steps.empty());
  CHECK(out.done() == (out.steps.back().outcome != StepOutcome::Failed));
  return out.steps.back();
}

WordPhone word_phone() {
  WordPhone out{.state = {},
                .partitions = {{"boot_a", "old"}, {"boot_b", "old"}, {"system_a", "old"}},
                .sizes = {{"boot_a", 4096}, {"boot_b", 4096}},
                .logical = {{"system_a", 2 * kMiB}},
                .super = 4 * kMiB};
  out.state.variables["product"] = "gnomon";
  return out;
}

const Step kToBootloader = one(act::EnterMode{Mode::Bootloader});
const Step kToUserspace = one(act::EnterMode{Mode::Userspace});

Step write(const std::string& partition, SlotRole slot, std::uint64_t size) {
  return one(act::Write{.partition = partition, .slot = slot, .file = {"f", size, "new"}});
}

}  // namespace

TEST_CASE("player: slots are seen from where the phone starts, even after another was chosen") {
  WordPhone start = word_phone();
  start.state.slot = "b";
  WordPhone phone = start;
  played(phone, {kToBootloader, one(act::ChooseSlot{SlotRole::Other, "a"}),
                 write("boot", SlotRole::Current, 10)});
  CHECK(phone.state.slot == "a");
  CHECK(phone.partitions["boot_b"] == "new");
  CHECK(phone.partitions["boot_a"] == "old");
}

TEST_CASE("player: slots keep their meaning when the phone enters its bootloader again") {
  WordPhone start = word_phone();
  start.state.slot = "b";
  WordPhone phone = start;
  played(phone, {kToBootloader, one(act::ChooseSlot{SlotRole::Other, "a"}), kToUserspace,
                 kToBootloader, write("boot", SlotRole::Current, 10)});
  CHECK(phone.partitions["boot_b"] == "new");
  CHECK(phone.partitions["boot_a"] == "old");
}

TEST_CASE("player: a bootloader may tell its slot with the line in front") {
  WordPhone start = word_phone();
  start.state.variables["current-slot"] = "_b";
  WordPhone phone = start;
  CHECK(played(phone, {kToBootloader, write("boot", SlotRole::Other, 10)}).outcome ==
        StepOutcome::Accepted);
  CHECK(phone.partitions["boot_a"] == "new");
}

TEST_CASE("player: a phone that does not say its slot is the one that the plan was made for") {
  WordPhone start = word_phone();
  start.state.silent = {"current-slot"};
  WordPhone phone = start;
  CHECK(played(phone, {kToBootloader, write("boot", SlotRole::Current, 10)}).outcome ==
        StepOutcome::Failed);
  const Step expect = one(act::Expect{.variable = "current-slot", .value = "b"});
  CHECK(played(phone, {kToBootloader, expect}).outcome == StepOutcome::Unknown);
  CHECK(played(phone, {kToBootloader, expect, write("boot", SlotRole::Current, 10)}).outcome ==
        StepOutcome::Accepted);
  CHECK(phone.partitions["boot_b"] == "new");
}

TEST_CASE("player: expectations: alternatives, bounds in either notation, and what is found") {
  WordPhone phone = word_phone();
  const auto outcome = [&](act::Expect expect) {
    return played(phone, {kToBootloader, one(std::move(expect))}).outcome;
  };
  CHECK(outcome({.variable = "product", .value = "vernier|gnomon"}) == StepOutcome::Confirmed);
  CHECK(outcome({.variable = "product", .value = "vernier"}) == StepOutcome::Failed);
  CHECK(outcome({.variable = "product", .value = "gno"}) == StepOutcome::Failed);
  CHECK(outcome({.variable = "colour", .value = "red"}) == StepOutcome::Unknown);
  CHECK(outcome({.variable = "partition-size:boot_a", .at_least = 4096}) == StepOutcome::Confirmed);
  CHECK(outcome({.variable = "partition-size:boot_a", .at_least = 4097}) == StepOutcome::Failed);
  CHECK(outcome({.variable = "partition-size:boot", .at_most = 4096}) == StepOutcome::Confirmed);
  CHECK(outcome({.variable = "product", .at_least = 1}) == StepOutcome::Failed);
  // Some bootloaders tell sizes without 0x.
  phone.state.variables["partition-size:boot_a"] = "2000000";
  CHECK(outcome({.variable = "partition-size:boot_a", .at_least = 32 * kMiB}) ==
        StepOutcome::Confirmed);
  CHECK(outcome({.variable = "partition-size:boot_a", .at_least = 32 * kMiB + 1}) ==
        StepOutcome::Failed);
  const auto other = word_phone().made();
  SimulatedHands hands(*other, {});
  const Played said =
      play({kToBootloader, one(act::Expect{.variable = "product", .value = "vernier"})}, *other,
           hands, files_of_plan({}));
  CHECK(said.error->expected == "product is vernier");
  CHECK(said.error->found == "gnomon");
}

TEST_CASE("player: what a phone refuses ends the play, and nothing after it is done") {
  struct Case {
    std::string about;
    std::vector<Step> steps;
    std::function<void(PhoneState&)> change;
  };
  const Step wipe = one(act::Wipe{});
  const std::vector<Case> cases{
      {"locked",
       {kToBootloader, write("boot", SlotRole::Current, 10)},
       [](PhoneState& s) { s.locked = true; }},
      {"too large", {kToBootloader, write("boot", SlotRole::Current, 4097)}, {}},
      {"no such partition", {kToBootloader, write("boat", SlotRole::Current, 1)}, {}},
      {"logical from the bootloader", {kToBootloader, write("system", SlotRole::Current, 1)}, {}},
      {"a boot image from userspace", {kToUserspace, write("boot", SlotRole::Current, 1)}, {}},
      {"resize beyond super", {kToUserspace, one(act::Resize{"system_a", 4 * kMiB + 1})}, {}},
      {"resize from the bootloader", {kToBootloader, one(act::Resize{"system_a", 4096})}, {}},
      {"create what is there", {kToUserspace, one(act::Create{"system_a", 1})}, {}},
      {"drop what is not there", {kToUserspace, one(act::Drop{"odm_a"})}, {}},
      {"wipe while locked", {kToBootloader, wipe}, [](PhoneState& s) { s.locked = true; }},
      {"wipe of a running system", {wipe}, {}},
      {"a slot of a phone with one",
       {kToBootloader, one(act::ChooseSlot{SlotRole::Other, "b"})},
       [](PhoneState& s) { s.slotted = false; }},
      {"install without recovery", {kToBootloader, one(act::Install{{"z"}})}, {}},
      {"start while locked", {kToBootloader, one(act::Start{{"f"}})}, [](PhoneState& s) {
         s.locked = true;
       }}};
  for (const Case& one_case : cases) {
    CAPTURE(one_case.about);
    WordPhone start = word_phone();
    if (one_case.change) one_case.change(start.state);
    const auto phone = start.made();
    auto steps = one_case.steps;
    steps.push_back(one(act::Restart{}));
    SimulatedHands hands(*phone, {});
    const Played out = play(steps, *phone, hands, files_of_plan(steps));
    CHECK_FALSE(out.done());
    CHECK(out.steps.size() == steps.size() - 1);
    CHECK(out.steps.back().outcome == StepOutcome::Failed);
    CHECK_FALSE(out.steps.back().detail.empty());
    WordPhone after;
    after.take(*phone);
    CHECK(after.partitions == start.partitions);
    CHECK_FALSE(after.state.data.wiped);
  }
}

TEST_CASE("player: just what fits is done, and logical partitions come and go") {
  WordPhone phone = word_phone();
  CHECK(played(phone, {kToUserspace, one(act::Resize{"system_a", 4 * kMiB}),
                       write("system", SlotRole::Current, 4 * kMiB)})
            .outcome == StepOutcome::Confirmed);
  CHECK(phone.partitions["system_a"] == "new");
  CHECK(played(phone, {kToUserspace, one(act::Resize{"system_a", 2 * kMiB}),
                       one(act::Create{"product_a", 2 * kMiB})})
            .outcome == StepOutcome::Done);
  CHECK(phone.logical.at("product_a") == 2 * kMiB);
  CHECK(played(phone, {kToUserspace, one(act::Drop{"product_a"})}).outcome == StepOutcome::Done);
  CHECK_FALSE(phone.partitions.contains("product_a"));
  phone.state.update = UpdateState::Snapshotted;
  const Step expect = one(act::Expect{.variable = "snapshot-update-status", .value = "none"});
  CHECK(played(phone, {kToBootloader, expect}).outcome == StepOutcome::Failed);
  CHECK(played(phone, {kToBootloader, one(act::CancelUpdate{}), expect}).outcome ==
        StepOutcome::Confirmed);
}

TEST_CASE("player: hands: unlocking and locking erase, and what is done by hand is told as that") {
  WordPhone start = word_phone();
  start.state.locked = true;
  WordPhone phone = start;
  CHECK(played(phone, {kToBootloader, one(act::ByHand{.task = Task::Unlock}),
                       write("boot", SlotRole::Other, 10)})
            .outcome == StepOutcome::Accepted);
  CHECK(phone.state.data.wiped);
  CHECK(phone.partitions["boot_b"] == "new");
  phone.state.data.wiped = false;
  CHECK(played(phone, {one(act::ByHand{.task = Task::LockWithKey})}).outcome ==
        StepOutcome::ByHand);
  CHECK(phone.state.locked);
  CHECK(phone.state.data.wiped);
}
