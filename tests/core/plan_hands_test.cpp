/// Plans whose steps no wire performs: packages, updates, download mode.

#include "support/plan_facts.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("plan: stock images are handed over to a locked phone without unlocking it") {
  PlanFacts f = facts();
  f.way = Way::Download;
  f.locked = true;
  f.tar = {"package/t", 1, "t"};
  CHECK(has(make_plan(f).steps, "unlock"));
  const auto leaves_by_keys = [&] {
    return step(make_plan(f).steps, "restart").about.find("Out of download mode") !=
           std::string::npos;
  };
  CHECK(leaves_by_keys());
  f.wipe = true;  // from recovery, by then
  CHECK_FALSE(leaves_by_keys());
  f.wipe = false;
  f.restore = true;
  const Plan plan = make_plan(f);
  CHECK_FALSE(has(plan.steps, "unlock"));
  CHECK(std::ranges::none_of(plan.first, [](const auto& s) { return s.starts_with("Unlock"); }));
}

TEST_CASE(
    "plan: an over-the-air update of a patched phone: package, patched images in the other slot, "
    "one restart") {
  PlanFacts f = facts();
  f.this_slot = "a";
  f.update = PlanUpdate{"new.zip", true, {}, {}};
  const Plan plan = make_plan(f);
  CHECK(acts(plan.steps).find("mode:recovery install mode:bootloader write write slot restart") !=
        std::string::npos);
  CHECK(std::ranges::count_if(plan.steps, &Step::is<act::Restart>) == 1);
  PlanPhone phone = stock_phone(f);
  phone.state.variables["current-slot"] = "a";
  phone.outside = [](SimulatedPhone& at, const Step&) {
    for (const char* name : {"init_boot_b", "vbmeta_b"})
      put_word(at, name, "new-build");
  };
  phone.play(plan.steps);
  CHECK(phone.state.slot == "b");
  CHECK(phone.partitions["init_boot_b"] == "new-init_boot");
  CHECK(phone.partitions["init_boot_a"] == "old-init_boot");
  CHECK_FALSE(phone.state.data.wiped);
}

TEST_CASE(
    "plan: an update in download mode takes the part that keeps the data, and restarts once") {
  PlanFacts f = facts();
  f.way = Way::Download;
  f.slotted = false;
  f.tar = {"package/x-kit.tar.md5", 5, "t"};
  f.stock_tar = {"package/x-stock.tar.md5", 5, "s"};
  f.tar_field = "system-part_x.tar.md5";
  f.update = PlanUpdate{"folder", false, "HOME_PART3_x.tar.md5", "PART3_x.tar.md5"};
  const Plan plan = make_plan(f);
  CHECK(acts(plan.steps) ==
        "by-hand by-hand by-hand mode:download hand-over hand-over restart by-hand ");
  const Step& package = step(plan.steps, "update");
  CHECK(
      package.about.find("take HOME_PART3_x.tar.md5, which keeps the data, not PART3_x.tar.md5") !=
      std::string::npos);
  const auto& settings = package.get<act::HandOver>()->settings;
  CHECK(std::ranges::find(settings, "automatic restart off") != settings.end());
  const Step& patched = step(plan.steps, "package");
  CHECK(patched.get<act::HandOver>()->file.file == "package/x-kit.tar.md5");
  CHECK(patched.get<act::HandOver>()->field.contains("system-part_x.tar.md5"));
  CHECK(patched.undo == "back-package");
  CHECK(act_of_step<act::HandOver>(plan.back, "back-package").file.sha256 == "s");
}

TEST_CASE("plan: a factory package is written by its maker's program, with the wipe off") {
  PlanFacts f = facts();
  f.update = PlanUpdate{"factory.zip", false, {}, {}};
  const Plan plan = make_plan(f);
  const Step& update = step(plan.steps, "update");
  REQUIRE(update.is<act::HandOver>());
  const auto& settings = update.get<act::HandOver>()->settings;
  CHECK(std::ranges::find(settings, "no wipe of the user's data") != settings.end());
  CHECK_FALSE(has(plan.steps, "slot-other"));
}

TEST_CASE(
    "plan: a system installed from recovery lands on the other slot; later steps are for it") {
  PlanFacts f = facts();
  f.this_slot = "b";
  KitImage recovery = image("recovery", Made::Given);
  recovery.before_install = true;
  f.images.insert(f.images.begin(), recovery);
  f.install = PlanInstall{{"install/other.zip", 9, "z"}, true, false};
  f.other_system = f.own_recovery = true;
  const Plan plan = make_plan(f);
  PlanPhone phone = stock_phone(f);
  phone.state.slot = "b";
  phone.outside = [](SimulatedPhone& at, const Step& one) {
    // Recovery has to be there before anything can be installed from it.
    CHECK(words_in(*value_of(at.content("recovery_b"))) == "new-recovery");
    CHECK(one.get<act::Install>()->package.file == "install/other.zip");
    for (const char* name : {"init_boot_a", "vbmeta_a", "recovery_a"})
      put_word(at, name, "other-system");
  };
  phone.play(plan.steps);
  CHECK(phone.partitions["init_boot_a"] == "new-init_boot");
  CHECK(phone.partitions["recovery_a"] == "other-system");
  CHECK(phone.state.slot == "a");
  phone.outside = {};
  phone.play(plan.back);
  CHECK(phone.state.slot == "b");
  CHECK(phone.partitions["recovery_b"] == "old-recovery");
}

TEST_CASE("plan: with one slot an installed system leaves only the whole package to go back to") {
  PlanFacts f = facts();
  f.slotted = false;
  f.install = PlanInstall{{"install/other.zip", 9, "z"}, false, true};
  f.contents_source = "the stock package x.zip";
  f.other_system = true;
  const Plan plan = make_plan(f);
  CHECK(step(plan.steps, "install").risk.data_loss);
  const Step& back = step(plan.back, "whole-package");
  CHECK(back.about.find("the stock package x.zip") != std::string::npos);
  CHECK(back.risk.data_loss);
}

TEST_CASE("plan: download mode: what an installation needs goes first, wiping is recovery's") {
  PlanFacts f = facts();
  f.way = Way::Download;
  f.slotted = false;
  f.wipe = f.other_system = true;
  f.install = PlanInstall{{"install/other.zip", 9, "z"}, false, false};
  f.first_tar = {"package/x-first.tar.md5", 5, "f"};
  f.tar = {"package/x-kit.tar.md5", 5, "t"};
  const Plan plan = make_plan(f);
  CHECK(acts(plan.steps) ==
        "by-hand by-hand by-hand mode:download hand-over mode:recovery install mode:download "
        "hand-over "
        "mode:recovery by-hand restart by-hand ");
  const Step& wipe = step(plan.steps, "wipe");
  CHECK(wipe.risk.data_loss);
  CHECK(wipe.screen == "recovery's menu");
}
