/// Plans from facts alone, played forward and back.

#include <algorithm>
#include <random>

#include "support/plan_facts.hpp"
#include "support/rounds.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("plan: forward and back on a phone with two slots: it is as it was") {
  for (const Slots slots : {Slots::Current, Slots::Both}) {
    PlanFacts f = facts();
    f.slots = slots;
    const Plan plan = make_plan(f);
    PlanPhone phone = stock_phone(f);
    const auto before = phone.partitions;
    phone.play(plan.steps);
    CHECK(phone.partitions["init_boot_a"] == "new-init_boot");
    CHECK(phone.partitions["init_boot_b"] ==
          (slots == Slots::Both ? "new-init_boot" : "old-init_boot"));
    CHECK_FALSE(phone.state.data.wiped);
    phone.play(plan.back);
    CHECK(phone.partitions == before);
    CHECK_FALSE(phone.state.data.wiped);
  }
}

TEST_CASE("plan: one slot: no slot is named anywhere") {
  PlanFacts f = facts();
  f.slotted = false;
  const Plan plan = make_plan(f);
  for (const Step& one : plan.steps)
    if (const auto* write = one.get<act::Write>()) CHECK(write->slot == SlotRole::None);
  CHECK_FALSE(acts(plan.steps).contains("slot "));
  PlanPhone phone = stock_phone(f);
  const auto before = phone.partitions;
  phone.play(plan.steps);
  CHECK(phone.partitions["vbmeta"] == "new-vbmeta");
  phone.play(plan.back);
  CHECK(phone.partitions == before);
  CHECK_FALSE(has(plan.steps, "no-update"));
}

TEST_CASE(
    "plan: a generic system: room first, in the userspace mode; the way back makes it all again") {
  const PlanFacts f = generic_system();
  const Plan plan = make_plan(f);
  CHECK(acts(plan.steps)
            .find("mode:userspace cancel-update drop drop resize write mode:bootloader write write "
                  "wipe restart") != std::string::npos);
  PlanPhone phone = phone_with_super(f);
  const auto partitions = phone.partitions;
  auto logical = phone.logical;
  phone.play(plan.steps);
  CHECK(phone.partitions["system_a"] == "new-system");
  CHECK(phone.logical["system_a"] == 58 * kMiB);
  CHECK_FALSE(phone.logical.contains("product_a"));
  CHECK(phone.state.data.wiped);
  phone.state.data.wiped = false;
  phone.play(plan.back);
  CHECK(phone.state.data.wiped);  // the other system's data is of no use to stock
  logical.erase("system_a-cow");
  CHECK(phone.logical == logical);
  CHECK(phone.partitions == partitions);
}

TEST_CASE("plan: what is lost and what no step brings back is said before anything is done") {
  const Plan plan = make_plan(generic_system());
  const auto says = [](const std::vector<std::string>& all, const std::string& word) {
    return std::ranges::any_of(all, [&](const auto& one) { return one.find(word) != one.npos; });
  };
  CHECK(says(plan.first, "user's data is erased"));
  CHECK(says(plan.first, "system_a-cow"));
  CHECK(says(plan.first, "Never lock"));
  CHECK(says(plan.back_first, "user's data is erased"));
  CHECK(says(plan.back_first, "made again"));
  CHECK(step(plan.steps, "drop-system_a-cow").risk.final);
  CHECK(step(plan.steps, "drop-system_a-cow").undo.empty());
  CHECK(step(plan.steps, "drop-product_a").undo == "create-product_a");
  PlanFacts locked = facts();
  locked.locked = true;
  CHECK(says(make_plan(locked).first, "fuse"));
  PlanFacts download = facts();
  download.way = Way::Download;
  CHECK(says(make_plan(download).first, "fuse"));
}

TEST_CASE("plan: contents that are not in the kit are named by where they are") {
  PlanFacts f = generic_system();
  f.contents.clear();
  const Plan plan = make_plan(f);
  const Step& fill = step(plan.back, "fill-product_a");
  CHECK(fill.is<act::ByHand>());
  CHECK(fill.about.find("the stock package x.zip") != std::string::npos);
  CHECK(fill.about.find("product is gone") != std::string::npos);
}

TEST_CASE("plan: pieces are written one after the other, each with its own file and digest") {
  PlanFacts f = generic_system();
  f.images[0].flash.pieces = {{"flash/system.piece-1.img", 5 * kMiB, "one"},
                              {"flash/system.piece-2.img", 3 * kMiB, "two"}};
  f.images[0].stock_files.pieces = {{"stock/system.piece-1.img", 5 * kMiB, "old-one"}};
  f.contents = {{"product_a",
                 {{"stock/product_a.piece-1.img", 4 * kMiB, "product-one"},
                  {"stock/product_a.piece-2.img", kMiB, "product-two"}}}};
  const Plan plan = make_plan(f);
  CHECK(act_of_step<act::Write>(plan.steps, "write-system-current").piece == 1);
  CHECK(act_of_step<act::Write>(plan.steps, "write-system-current").pieces == 2);
  CHECK(act_of_step<act::Write>(plan.steps, "write-system-current-2").file.file ==
        "flash/system.piece-2.img");
  CHECK(act_of_step<act::Write>(plan.back, "fill-product_a").piece == 1);
  CHECK(act_of_step<act::Write>(plan.back, "fill-product_a-2").file.file ==
        "stock/product_a.piece-2.img");
  PlanPhone phone = phone_with_super(f);
  phone.play(plan.steps);
  CHECK(phone.partitions["system_a"] == "one+two");
}

TEST_CASE("plan: a locked phone is unlocked first, by a person, and that erases it") {
  PlanFacts f = facts();
  f.locked = true;
  f.access["unlock"] = "the switch is grey for three days";
  const Plan plan = make_plan(f);
  const Step& unlock = step(plan.steps, "unlock");
  CHECK(unlock.risk.data_loss);
  CHECK(unlock.risk.final);
  CHECK(unlock.notes == std::vector<std::string>{"the switch is grey for three days"});
  PlanPhone phone = stock_phone(f);
  phone.state.locked = true;
  phone.play(plan.steps);
  CHECK(phone.person.contains("unlock"));
  CHECK_FALSE(has(plan.back, "unlock"));
}

TEST_CASE("plan: the owner's key: locked at the end, by a person, never by the plan itself") {
  PlanFacts f = facts();
  f.needs = Needs::OwnKey;
  f.key_file = "key/root-key.bin";
  const Plan plan = make_plan(f);
  CHECK(step(plan.steps, "own-key").is<act::ByHand>());
  CHECK(act_of_step<act::ByHand>(plan.steps, "own-key").file.file == "key/root-key.bin");
  CHECK(std::ranges::none_of(plan.first, [](const auto& s) { return s.find("Never lock") == 0; }));
  // The way back starts from a phone that was locked.
  CHECK(step(plan.back, "unlock").risk.data_loss);
  CHECK_FALSE(plan.back_first.empty());
}

TEST_CASE("plan: of a phone whose lock state is not known, what unlocking costs is said first") {
  PlanFacts f = facts();
  const auto said = [&] {
    return std::ranges::any_of(make_plan(f).first,
                               [](const auto& s) { return s.starts_with("Unlocking"); });
  };
  CHECK(said());
  f.locked = false;
  CHECK_FALSE(said());
}

TEST_CASE(
    "plan: a recovery of one's own is started straight away, before the system writes its own") {
  PlanFacts f = facts();
  f.own_recovery = true;
  f.access["recovery"] = "both volumes";
  const Plan plan = make_plan(f);
  const auto at = std::ranges::find(plan.steps, "straight-to-recovery", &Step::id);
  REQUIRE(at != plan.steps.end());
  CHECK((at + 1)->is<act::Restart>());
  CHECK(at->notes == std::vector<std::string>{"both volumes"});
}

TEST_CASE("plan: a phone's own notes stand where they are needed, in its own words") {
  PlanFacts f = facts();
  f.access = {{"bootloader", "hold \"down\""}, {"accounts", "sign out"}, {"secure_startup", "off"}};
  const Plan plan = make_plan(f);
  CHECK(step(plan.steps, "to-bootloader").notes == std::vector<std::string>{"hold \"down\""});
  CHECK(step(plan.steps, "ready").notes == std::vector<std::string>{"sign out", "off"});
  CHECK(step(plan.back, "ready").notes.empty());
  const std::string text = plan_for_people(plan);
  CHECK(text.find("- hold \"down\"") != std::string::npos);
  REQUIRE(read_plan(format_plan(plan), "plan.toml"));
}

TEST_CASE("plan: expectations that a phone does not answer do not stop it; wrong answers do") {
  PlanFacts f = facts();
  f.anti_rollback = 4;
  const Plan plan = make_plan(f);
  CHECK(act_of_step<act::Expect>(plan.steps, "anti-rollback").at_most == 4);
  CHECK(expectation(act_of_step<act::Expect>(plan.steps, "anti-rollback")) == "anti is at most 4");
  CHECK(act_of_step<act::Expect>(plan.steps, "no-update").value == "none");
  CHECK(act_of_step<act::Expect>(plan.steps, "room-init_boot").at_least == 4096);
  CHECK(act_of_step<act::Expect>(plan.steps, "room-init_boot").variable ==
        "partition-size:init_boot");
  f.this_slot = "b";
  CHECK(act_of_step<act::Expect>(make_plan(f).steps, "room-init_boot").variable ==
        "partition-size:init_boot_b");
  f.images[0].partition = "init_boot_a";
  CHECK(act_of_step<act::Expect>(make_plan(f).steps, "room-init_boot_a").variable ==
        "partition-size:init_boot_a");
}

TEST_CASE("plan: each wrong answer stops it before anything is written, a missing one does not") {
  PlanFacts f = facts();
  f.anti_rollback = 4;
  f.this_slot = "b";
  const Plan plan = make_plan(f);
  const std::map<std::string, std::pair<std::string, std::string>> wrong{
      {"device", {"product", "vernier"}},
      {"unlocked", {"unlocked", "no"}},
      {"slot-now", {"current-slot", "a"}},
      {"slot-bootable", {"slot-unbootable:b", "yes"}},
      {"slot-successful", {"slot-successful:b", "no"}},
      {"no-update", {"snapshot-update-status", "merging"}},
      {"anti-rollback", {"anti", "5"}},
      {"room-init_boot", {"partition-size:init_boot_b", "0xfff"}},
      {"room-vbmeta", {"partition-size:vbmeta_b", "fff"}}};
  std::size_t asked = 0;
  for (const Step& one : plan.steps) {
    if (!one.is<act::Expect>()) continue;
    CAPTURE(one.id);
    ++asked;
    const auto& [variable, value] = wrong.at(one.id);
    PlanPhone phone = stock_phone(f);
    phone.state.slot = "b";
    const auto before = phone.partitions;
    phone.state.variables[variable] = value;
    CHECK(phone.stopped_by(plan.steps) == one.id);
    CHECK(phone.partitions == before);
    phone.state.variables = {{"product", "gnomon"}, {"anti", "0"}};
    phone.state.mode = PhoneMode::System;
    phone.state.silent = {variable};
    phone.play(plan.steps);
    CHECK(phone.partitions["init_boot_b"] == "new-init_boot");
  }
  CHECK(asked == wrong.size());
  // Just the number, just the room.
  PlanPhone exact = stock_phone(f);
  exact.state.slot = "b";
  exact.state.variables["anti"] = "4";
  exact.sizes = {{"init_boot_b", 4096}, {"vbmeta_b", 4096}};
  exact.play(plan.steps);
}

TEST_CASE("plan: the phone is wiped before it is locked, never after") {
  for (const Way way : {Way::Bootloader, Way::Download}) {
    PlanFacts f = facts();
    f.way = way;
    f.tar = {"package/t", 1, "t"};
    f.wipe = true;
    f.needs = Needs::OwnKey;
    const Plan plan = make_plan(f);
    const auto wipe = std::ranges::find(plan.steps, "wipe", &Step::id);
    const auto lock = std::ranges::find(plan.steps, "own-key", &Step::id);
    REQUIRE(lock != plan.steps.end());
    CHECK(wipe < lock);
    CHECK(std::none_of(lock + 1, plan.steps.end(), [](const Step& one) {
      return one.risk.data_loss || one.is<act::Write>() || one.is<act::HandOver>();
    }));
    CHECK_FALSE(has(plan.back, "own-key"));
  }
}

namespace {

std::string shown(const std::map<std::string, std::string>& partitions) {
  std::string out;
  for (const auto& [name, content] : partitions)
    out += name + "=" + content + " ";
  return out;
}

/// What stands outside of the plan's own words: what packages and the program for download mode
/// write.
void packages(SimulatedPhone& phone, const Step& step, const PlanFacts& facts) {
  const std::string other = "_" + phone.other_slot(), now = "_" + phone.state.slot;
  const auto put = [&](const KitImage& image, const std::string& content, const std::string& slot) {
    const std::string plain = facts.slotted ? image.partition + slot : image.partition;
    put_word(phone, plain, content);
  };
  for (const KitImage& image : facts.images) {
    if (step.id == "package") put(image, image.flash.sha256, now);
    if (step.id == "back-package" || step.id == "whole-package")
      put(image, image.stock_files.sha256, now);
    if (step.id == "update")
      put(image, image.stock_files.sha256, facts.update->over_the_air ? other : now);
    if (step.id == "install") put(image, "other-system", facts.install->other_slot ? other : now);
  }
}

}  // namespace

TEST_CASE("plan: an image without a stock twin has its way back with a person") {
  PlanFacts f = facts();
  f.images[0].stock_files = {};
  f.contents_source = "the stock package x.zip";
  const Plan plan = make_plan(f);
  CHECK(step(plan.back, "back-init_boot-current").is<act::ByHand>());
}

TEST_CASE("plan: whatever the facts, every plan can be played, and holds together") {
  Random random(5);
  const auto coin = [&] { return random() % 2 == 0; };
  int changed = 0;
  for (int round = 0; round < rounds(3000); ++round) {
    PlanFacts f = facts();
    if (coin()) f = generic_system();
    f.slotted = coin() || !f.room.empty();
    if (coin()) f.slots = Slots::Both;
    if (coin()) f.wipe = true;
    if (coin()) f.locked = coin();
    if (coin()) f.this_slot = "a";
    if (coin()) f.needs = Needs::OwnKey;
    if (coin()) f.anti_rollback = random() % 9;
    if (coin()) f.restore = true;
    if (coin() && f.room.empty()) f.update = PlanUpdate{"x", coin(), "h", "w"};
    if (coin() && f.room.empty() && !f.update)
      f.install = PlanInstall{{"install/z.zip", 1, "z"}, f.slotted && coin(), coin()};
    if (coin() && f.room.empty()) f.way = Way::Download;
    f.tar = {"package/t", 1, "t"};
    f.stock_tar = {"package/s", 1, "s"};
    const Plan plan = make_plan(f);
    CAPTURE(round);
    PlanPhone phone = f.room.empty() ? stock_phone(f) : phone_with_super(f);
    if (f.locked == true) phone.state.locked = true;
    phone.outside = [&f](SimulatedPhone& at, const Step& one) { packages(at, one, f); };
    auto before = phone.partitions;
    auto sizes = phone.logical;
    for (const RoomStep& one : f.room)
      if (one.leftover) sizes.erase(one.partition);
    phone.play(plan.steps);
    changed += phone.partitions != before ? 1 : 0;
    phone.play(plan.back);
    // What another system's installer wrote to the slot that the phone does not start from is left.
    if (f.install && f.install->other_slot)
      for (const KitImage& image : f.images)
        before[image.partition + "_b"] = phone.partitions[image.partition + "_b"];
    CHECK(phone.state.slot == (f.update && phone.state.slot == "b" ? "b" : "a"));
    CAPTURE(acts(plan.steps));
    CAPTURE(acts(plan.back));
    CAPTURE(shown(before));
    CAPTURE(shown(phone.partitions));
    CHECK(phone.partitions == before);
    CHECK(phone.logical == sizes);
    for (const auto* steps : {&plan.steps, &plan.back}) {
      CHECK(steps->front().id == "ready");
      for (const Step& one : *steps) {
        const bool modes = one.is<act::EnterMode>();
        if (!modes) CHECK(std::ranges::count(*steps, one.id, &Step::id) == 1);
        if (one.risk.data_loss && steps == &plan.steps) CHECK_FALSE(plan.first.empty());
        if (one.risk.data_loss && steps == &plan.back) CHECK_FALSE(plan.back_first.empty());
        if (one.risk.final) CHECK(one.undo.empty());
      }
    }
    for (const Step& one : plan.steps)
      if (!one.undo.empty() && one.is<act::ByHand>() == false) CHECK(has(plan.back, one.undo));
    // A step's way back that is not in the plan is cleared, so the line above alone shows nothing.
    if (!f.install && !f.update)
      for (const Step& one : plan.steps)
        if (one.is<act::Write>() || one.is<act::Resize>()) CHECK_FALSE(one.undo.empty());
    if (f.update && f.update->over_the_air && f.slotted && f.way != Way::Download)
      for (const Step& one : plan.steps)
        if (const auto* write = one.get<act::Write>();
            write != nullptr && write->slot == SlotRole::Other)
          CHECK_FALSE(one.undo.empty());
    if (round % 20 == 0) CHECK(format_plan(plan) == format_plan(make_plan(f)));
    if (round % 20 == 0) CHECK(value_of(read_plan(format_plan(plan), "plan.toml")) == plan);
  }
  CHECK(changed > rounds(3000) * 9 / 10);
}
