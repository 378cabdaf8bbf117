/// What an act does to a phone, and what a phone refuses.

#include "support/plan_facts.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

const OpenKitFile kNothing = [](const std::string&) { return Result<SourcePtr>(SourcePtr()); };

Step one(Act act) {
  return {.id = "it", .act = std::move(act), .before = "b", .success = "s"};
}

/// Plays steps on a phone as it is. @return the last step's outcome
PlayedStep played(SimulatedPhone& phone, const std::vector<Step>& steps) {
  SimulatedHands hands(phone);
  const Played out = play(steps, phone, hands, kNothing);
  REQUIRE_FALSE(out.steps.empty());
  CHECK(out.done() == (out.steps.back().outcome != StepOutcome::Failed));
  return out.steps.back();
}

PhoneState phone_state() {
  PhoneState out{.partitions = {{"boot_a", "old"}, {"boot_b", "old"}, {"system_a", "old"}},
                 .sizes = {{"boot_a", 4096}, {"boot_b", 4096}},
                 .logical = {{"system_a", 8192}},
                 .super = 16384};
  out.variables["product"] = "gnomon";
  return out;
}

const Step kToBootloader = one(act::EnterMode{Mode::Bootloader});
const Step kToUserspace = one(act::EnterMode{Mode::Userspace});

Step write(const std::string& partition, SlotRole slot, std::uint64_t size) {
  return one(act::Write{.partition = partition, .slot = slot, .file = {"f", size, "new"}});
}

}  // namespace

TEST_CASE("player: slots are seen from where the phone starts, even after another was chosen") {
  PhoneState start = phone_state();
  start.slot = "b";
  SimulatedPhone phone(start);
  played(phone, {kToBootloader, one(act::ChooseSlot{SlotRole::Other, "a"}),
                 write("boot", SlotRole::Current, 10)});
  CHECK(phone.state.slot == "a");
  CHECK(phone.state.partitions["boot_b"] == "new");
  CHECK(phone.state.partitions["boot_a"] == "old");
}

TEST_CASE("player: slots keep their meaning when the phone enters its bootloader again") {
  PhoneState start = phone_state();
  start.slot = "b";
  SimulatedPhone phone(start);
  played(phone, {kToBootloader, one(act::ChooseSlot{SlotRole::Other, "a"}), kToUserspace,
                 kToBootloader, write("boot", SlotRole::Current, 10)});
  CHECK(phone.state.partitions["boot_b"] == "new");
  CHECK(phone.state.partitions["boot_a"] == "old");
}

TEST_CASE("player: a bootloader may tell its slot with the line in front") {
  PhoneState start = phone_state();
  start.variables["current-slot"] = "_b";
  SimulatedPhone phone(start);
  CHECK(played(phone, {kToBootloader, write("boot", SlotRole::Other, 10)}).outcome ==
        StepOutcome::Done);
  CHECK(phone.state.partitions["boot_a"] == "new");
}

TEST_CASE("player: a phone that does not say its slot is the one that the plan was made for") {
  PhoneState start = phone_state();
  start.silent = {"current-slot"};
  SimulatedPhone phone(start);
  CHECK(played(phone, {kToBootloader, write("boot", SlotRole::Current, 10)}).outcome ==
        StepOutcome::Failed);
  const Step expect = one(act::Expect{.variable = "current-slot", .value = "b"});
  CHECK(played(phone, {kToBootloader, expect}).outcome == StepOutcome::Unknown);
  CHECK(played(phone, {kToBootloader, expect, write("boot", SlotRole::Current, 10)}).outcome ==
        StepOutcome::Done);
  CHECK(phone.state.partitions["boot_b"] == "new");
}

TEST_CASE("player: expectations: alternatives, bounds in either notation, and what is found") {
  SimulatedPhone phone(phone_state());
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
  SimulatedPhone other(phone_state());
  SimulatedHands hands(other);
  const Played said =
      play({kToBootloader, one(act::Expect{.variable = "product", .value = "vernier"})}, other,
           hands, kNothing);
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
      {"resize beyond super", {kToUserspace, one(act::Resize{"system_a", 16385})}, {}},
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
    PhoneState start = phone_state();
    if (one_case.change) one_case.change(start);
    SimulatedPhone phone(start);
    auto steps = one_case.steps;
    steps.push_back(one(act::Restart{}));
    SimulatedHands hands(phone);
    const Played out = play(steps, phone, hands, kNothing);
    CHECK_FALSE(out.done());
    CHECK(out.steps.size() == steps.size() - 1);
    CHECK(out.steps.back().outcome == StepOutcome::Failed);
    CHECK_FALSE(out.steps.back().detail.empty());
    CHECK(phone.state.partitions == start.partitions);
    CHECK_FALSE(phone.state.wiped);
  }
}

TEST_CASE("player: just what fits is done, and logical partitions come and go") {
  SimulatedPhone phone(phone_state());
  CHECK(played(phone, {kToUserspace, one(act::Resize{"system_a", 16384}),
                       write("system", SlotRole::Current, 16384)})
            .outcome == StepOutcome::Done);
  CHECK(phone.state.partitions["system_a"] == "new");
  CHECK(played(phone, {kToUserspace, one(act::Resize{"system_a", 8192}),
                       one(act::Create{"product_a", 8192})})
            .outcome == StepOutcome::Done);
  CHECK(phone.state.logical.at("product_a") == 8192);
  CHECK(played(phone, {kToUserspace, one(act::Drop{"product_a"})}).outcome == StepOutcome::Done);
  CHECK_FALSE(phone.state.partitions.contains("product_a"));
  phone.state.update_waits = true;
  const Step expect = one(act::Expect{.variable = "snapshot-update-status", .value = "none"});
  CHECK(played(phone, {kToBootloader, expect}).outcome == StepOutcome::Failed);
  CHECK(played(phone, {kToBootloader, one(act::CancelUpdate{}), expect}).outcome ==
        StepOutcome::Confirmed);
}

TEST_CASE("player: hands: unlocking and locking erase, and what is done by hand is told as that") {
  PhoneState start = phone_state();
  start.locked = true;
  SimulatedPhone phone(start);
  CHECK(played(phone, {kToBootloader, one(act::ByHand{.task = Task::Unlock}),
                       write("boot", SlotRole::Other, 10)})
            .outcome == StepOutcome::Done);
  CHECK(phone.state.wiped);
  CHECK(phone.state.partitions["boot_b"] == "new");
  phone.state.wiped = false;
  CHECK(played(phone, {one(act::ByHand{.task = Task::LockWithKey})}).outcome ==
        StepOutcome::ByHand);
  CHECK(phone.state.locked);
  CHECK(phone.state.wiped);
}
