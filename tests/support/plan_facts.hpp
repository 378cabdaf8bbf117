#pragma once
/// Facts that plans are made of in tests, and what is asked of the plans.

#include <algorithm>

#include "kit/plan/plan_text.hpp"
#include "kit/plan/plan_toml.hpp"
#include "kit/plan/planner.hpp"
#include "support/plan_phone.hpp"

namespace wexlo::test {

inline KitImage image(const std::string& name, Made made = Made::Patched) {
  return {.partition = name,
          .made = made,
          .flash = {"flash/" + name + ".img", 4096, "new-" + name},
          .stock_files = {"stock/" + name + ".img", 2048, "old-" + name}};
}

inline PlanFacts facts() {
  return {.device = "gnomon",
          .build = "korvale/gnomon",
          .images = {image("init_boot"), image("vbmeta")},
          .needs = Needs::Unlocked,
          .products = "gnomon"};
}

inline std::string acts(const std::vector<Step>& steps) {
  std::string out;
  for (const Step& step : steps)
    out +=
        std::string(act_word(step.act)) +
        (step.is<act::EnterMode>() ? ":" + std::string(mode_word(step.get<act::EnterMode>()->mode))
                                   : "") +
        " ";
  return out;
}

inline const Step& step(const std::vector<Step>& steps, const std::string& id) {
  const auto at = std::ranges::find(steps, id, &Step::id);
  REQUIRE_MESSAGE(at != steps.end(), id);
  return *at;
}

/// The act of a step, which has to be one.
template <class A>
const A& act_of_step(const std::vector<Step>& steps, const std::string& id) {
  const A* found = step(steps, id).get<A>();
  REQUIRE_MESSAGE(found != nullptr, id);
  return *found;
}

inline bool has(const std::vector<Step>& steps, const std::string& id) {
  return std::ranges::find(steps, id, &Step::id) != steps.end();
}

/// A phone with two slots, as it was before anything was done.
inline PlanPhone stock_phone(const PlanFacts& facts) {
  PlanPhone phone;
  phone.state.slotted = facts.slotted;
  phone.state.gives_back = ReadingBack::Nowhere;  // images of many MiB, thousands of times
  phone.state.variables = {{"product", "gnomon"}, {"anti", "0"}};
  for (const KitImage& one : facts.images)
    for (const char* slot : {"_a", "_b"}) {
      const std::string name = facts.slotted ? one.partition + slot : one.partition;
      if (one.is_logical() && name != one.logical) continue;
      phone.partitions[name] = one.stock_files.sha256.empty() ? "gone" : one.stock_files.sha256;
      if (!one.is_logical()) phone.sizes[name] = 64 * kMiB;
    }
  return phone;
}

/// A generic system that fits once two partitions went.
inline PlanFacts generic_system() {
  PlanFacts f = facts();
  KitImage system = image("system", Made::Given);
  system.logical = "system_a";
  system.flash.size = 58 * kMiB;
  system.stock_files.size = 48 * kMiB;
  f.images.insert(f.images.begin(), system);
  f.wipe = f.other_system = true;
  f.room = {{RoomAct::Drop, "system_a-cow", 4 * kMiB, 0, "left over", "", true},
            {RoomAct::Drop, "product_a", 6 * kMiB, 0, "not needed", "product is gone", false},
            {RoomAct::Resize, "system_a", 48 * kMiB, 58 * kMiB, "it grows", "", false}};
  f.contents = {{"product_a", {{"stock/product_a.img", 5 * kMiB, "old-product"}}}};
  f.contents_source = "the stock package x.zip";
  return f;
}

inline PlanPhone phone_with_super(const PlanFacts& f) {
  PlanPhone phone = stock_phone(f);
  phone.super = 66 * kMiB;
  phone.logical = {{"system_a", 48 * kMiB},
                   {"product_a", 6 * kMiB},
                   {"vendor_a", 6 * kMiB},
                   {"system_a-cow", 4 * kMiB}};
  phone.partitions["product_a"] = "old-product";
  return phone;
}

}  // namespace wexlo::test
