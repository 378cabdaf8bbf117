/// What plans ask for because phones have habits: trials, download mode, slots, leftovers.

#include "support/plan_facts.hpp"

#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

PlanFacts of_download_mode() {
  PlanFacts f = facts();
  f.way = Way::Download;
  f.slotted = false;
  f.model = "KV730B";
  f.images = {image("boot"), image("vbmeta")};
  f.tar = {"package/phone-kit.tar.md5", 9, "n"};
  f.stock_tar = {"package/phone-stock.tar.md5", 9, "s"};
  f.contents_source = "the stock package";
  return f;
}

std::string step_ids(const std::vector<Step>& steps) {
  std::string out;
  for (const Step& one : steps)
    out += one.id + " ";
  return out;
}

}  // namespace

TEST_CASE("plan: in download mode the phone is asked for, starts online once, and is reset first") {
  PlanFacts f = of_download_mode();
  f.writes_vbmeta = true;
  f.locked = true;
  const Plan plan = make_plan(f);
  CHECK(step_ids(plan.steps) ==
        "ready which-phone to-download unlock start-online to-download package to-recovery "
        "first-reset restart after-start ");
  CHECK(step(plan.steps, "which-phone").success == "it says KV730B");
  CHECK(step(plan.steps, "first-reset").risk.data_loss);
  CHECK(plan.first.front().contains("erased"));
  // The small package of stock images is no way back.
  CHECK(step_ids(plan.back) == "ready to-download back-package restart after-start ");
  const act::HandOver& back = act_of_step<act::HandOver>(plan.back, "back-package");
  CHECK(back.file.file.empty());
  CHECK(back.field.contains("wiping"));
  CHECK(plan.back_first.back().contains("phone-stock.tar.md5 must not be handed over alone"));
  // Who wipes anyway does it once; without vbmeta there is nothing to reset for.
  f.wipe = true;
  CHECK_FALSE(has(make_plan(f).steps, "first-reset"));
  PlanFacts plain = of_download_mode();
  plain.images = {image("boot")};
  const Plan simple = make_plan(plain);
  CHECK(step_ids(simple.steps) ==
        "ready which-phone start-online to-download package restart after-start ");
  CHECK(act_of_step<act::HandOver>(simple.back, "back-package").file.file ==
        "package/phone-stock.tar.md5");
  // Stock images are taken by any phone.
  plain.restore = true;
  CHECK(step_ids(make_plan(plain).steps) ==
        "ready which-phone to-download package restart after-start ");
}

TEST_CASE("plan: a patched boot is tried before it is written, where it can be tried alone") {
  PlanFacts f = facts();
  f.images = {image("boot")};
  f.trial_start = true;
  const Plan plan = make_plan(f);
  const std::string order = step_ids(plan.steps);
  CHECK(order.find("trial-start back-to-bootloader write-boot") != order.npos);
  CHECK(act_of_step<act::Start>(plan.steps, "trial-start").file.file == "flash/boot.img");
  CHECK_FALSE(has(plan.back, "trial-start"));
  PlanPhone phone = stock_phone(f);
  phone.partitions["boot_a"] = "old-boot";
  phone.play(plan.steps);
  CHECK(phone.partitions["boot_a"] == "new-boot");
}

TEST_CASE("plan: a product is expected only where somebody says it; else a person looks") {
  PlanFacts f = facts();
  f.products.clear();
  const Plan plan = make_plan(f);
  CHECK_FALSE(has(plan.steps, "device"));
  CHECK(step(plan.steps, "which-phone").success == "it says gnomon");
  CHECK(step(make_plan(facts()).steps, "device").get<act::Expect>()->value == "gnomon");
}

TEST_CASE("plan: the slot is expected in both spellings, and asked for its marks") {
  PlanFacts f = facts();
  f.this_slot = "a";
  const Plan plan = make_plan(f);
  CHECK(act_of_step<act::Expect>(plan.steps, "slot-now").value == "a|_a");
  CHECK(act_of_step<act::Expect>(plan.steps, "slot-bootable").variable == "slot-unbootable:a");
  CHECK(step(plan.steps, "slot-successful").about.contains("slot-retry-count:a"));
  for (const char* answer : {"a", "_a"}) {
    PlanPhone phone = stock_phone(f);
    phone.state.variables["current-slot"] = answer;
    phone.play(plan.steps);
    CHECK(phone.partitions["init_boot_a"] == "new-init_boot");
  }
  CHECK_FALSE(has(make_plan(facts()).steps, "slot-bootable"));  // which one it is nobody said
}

TEST_CASE("plan: an update is cancelled before what it left over is dropped") {
  PlanFacts f = facts();
  f.images = {image("system", Made::Given)};
  f.images[0].logical = "system_a";
  f.room = {{.partition = "system_b-cow", .before = 4096, .leftover = true},
            {.act = RoomAct::Resize, .partition = "system_a", .before = 1, .after = 4096}};
  const std::string order = step_ids(make_plan(f).steps);
  CHECK(order.find("cancel-update drop-system_b-cow") != order.npos);
  f.room.erase(f.room.begin());
  CHECK_FALSE(has(make_plan(f).steps, "cancel-update"));
}

TEST_CASE(
    "plan: what runs in recovery alone says how recovery is started; what was found comes first") {
  PlanFacts f = facts();
  f.images = {image("recovery")};
  f.recovery_only = true;
  f.access["recovery"] = "volume up and power";
  f.first = {"Something to know."};
  const Plan plan = make_plan(f);
  CHECK(step(plan.steps, "after-start").about.contains("volume up and power"));
  CHECK(plan.first.front() == "Something to know.");
}
