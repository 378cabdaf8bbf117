#include <algorithm>

#include "base/toml_read.hpp"
#include "kit/plan.hpp"
#include "kit/target.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

LoadedImage load(const std::string& bytes) {
  return *load_image(blob(bytes), "x");
}

PlanFacts facts() {
  return {.device = "gnomon",
          .build = "korvale/gnomon",
          .images = {
              {"init_boot", "flash/init_boot.img", "stock/init_boot.img", 4096, 2048, "aa", "bb"},
              {"vbmeta", "flash/vbmeta.img", "stock/vbmeta.img", 64, 64, "cc", "dd"}}};
}

std::string acts(const std::vector<Step>& steps) {
  std::string out;
  for (const Step& step : steps)
    out += step.act + " ";
  return out;
}

}  // namespace

TEST_CASE("target: init_boot when it has a ramdisk with an init, else boot") {
  const LoadedImage with = load(BootBytes{.ramdisk = first_ramdisk()}.done());
  const LoadedImage kernel_only = load(BootBytes{.kernel = noise(100)}.done());
  const LoadedImage v2 = load(BootBytes{
      .version = 2, .kernel = noise(9), .ramdisk = test::gzip(first_ramdisk()), .dtb = noise(9)}
                                  .done());
  const auto first = choose_target({{"init_boot", &with}, {"boot", &kernel_only}});
  REQUIRE(first);
  CHECK(first->partition == "init_boot");
  CHECK(first->reason.find("/init (19 bytes)") != std::string::npos);
  CHECK(choose_target({{"boot", &v2}})->partition == "boot");
  CHECK(choose_target({{"init_boot", &kernel_only}, {"boot", &v2}})->partition == "boot");
  CHECK(choose_target({{"boot", &kernel_only}}).error().code == ErrorCode::NoTarget);
  CHECK(choose_target({}).error().code == ErrorCode::NoTarget);
  const LoadedImage no_init = load(BootBytes{.ramdisk = CpioBytes{}.folder("dev").done()}.done());
  CHECK(choose_target({{"init_boot", &no_init}}).error().code == ErrorCode::NoTarget);
  const LoadedImage linked =
      load(BootBytes{.ramdisk = CpioBytes{}.link("init", "/system/bin/init").done()}.done());
  CHECK(choose_target({{"boot", &linked}})->reason.find("link to /system/bin/init") !=
        std::string::npos);
}

TEST_CASE(
    "plan: the phone is made ready and asked, then the writes, then the restart; a wipe only if "
    "asked") {
  const Plan plan = make_plan(facts());
  CHECK(acts(plan.steps) == "person mode expect expect expect expect expect write write restart person ");
  CHECK(acts(plan.back) == "person mode expect expect expect write write restart person ");
  CHECK(std::ranges::none_of(plan.steps, &Step::data_loss));
  PlanFacts wiping = facts();
  wiping.wipe = true;
  CHECK(acts(make_plan(wiping).steps) ==
        "person mode expect expect expect expect expect write write wipe restart person ");
  CHECK(std::ranges::count_if(make_plan(wiping).steps, &Step::data_loss) == 1);
}

TEST_CASE("plan: one slot, or both when asked") {
  const auto slots = [](Slots choice) {
    PlanFacts f = facts();
    f.slots = choice;
    std::string out;
    for (const Step& step : make_plan(f).steps)
      if (step.act == "write") out += step.partition + ":" + step.slot + " ";
    return out;
  };
  CHECK(slots(Slots::Current) == "init_boot:current vbmeta:current ");
  CHECK(slots(Slots::Both) == "init_boot:current vbmeta:current init_boot:other vbmeta:other ");
}

TEST_CASE("plan: every write has a step back that writes the stock image") {
  const Plan plan = make_plan(facts());
  for (const Step& step : plan.steps) {
    if (step.act != "write") continue;
    const auto back = std::ranges::find(plan.back, step.undo, &Step::id);
    REQUIRE(back != plan.back.end());
    CHECK(back->file == "stock/" + step.partition + ".img");
    CHECK(back->partition == step.partition);
  }
}

TEST_CASE("plan: the text is valid, holds every step, and is the same each time") {
  const std::string text = format_plan(make_plan(facts()));
  CHECK(text == format_plan(make_plan(facts())));
  const auto table = parse_toml(text, "plan.toml");
  REQUIRE(table);
  CHECK((*table)["step"].as_array()->size() == 11);
  CHECK((*table)["back"].as_array()->size() == 9);
  const auto& write = *(*table)["step"].as_array()->get(7)->as_table();
  CHECK(write["partition"].value<std::string>() == "init_boot");
  CHECK(write["size"].value<std::int64_t>() == 4096);
  CHECK(write["sha256"].value<std::string>() == "aa");
}
