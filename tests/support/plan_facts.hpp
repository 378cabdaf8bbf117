#pragma once
/// Facts that plans are made of in tests, and what is asked of the plans.

#include <algorithm>

#include "support/plan_phone.hpp"

namespace wexlo::test {

inline PlanImage image(const std::string& name, const std::string& what = "patched") {
  return {.partition = name,
          .flash_file = "flash/" + name + ".img",
          .stock_file = "stock/" + name + ".img",
          .size = 4096,
          .stock_size = 2048,
          .flash_sha256 = "new-" + name,
          .stock_sha256 = "old-" + name,
          .what = what};
}

inline PlanFacts facts() {
  return {.device = "gnomon",
          .build = "korvale/gnomon",
          .images = {image("init_boot"), image("vbmeta")},
          .verification = "unlocked"};
}

inline std::string acts(const std::vector<Step>& steps) {
  std::string out;
  for (const Step& step : steps)
    out += step.act + (step.act == "mode" ? ":" + step.value : "") + " ";
  return out;
}

inline const Step& step(const std::vector<Step>& steps, const std::string& id) {
  const auto at = std::ranges::find(steps, id, &Step::id);
  REQUIRE_MESSAGE(at != steps.end(), id);
  return *at;
}

inline bool has(const std::vector<Step>& steps, const std::string& id) {
  return std::ranges::find(steps, id, &Step::id) != steps.end();
}

/// A phone with two slots, as it was before anything was done.
inline PlanPhone stock_phone(const PlanFacts& facts) {
  PlanPhone phone;
  phone.slotted = facts.slotted;
  phone.variables = {{"product", "gnomon"}, {"unlocked", "yes"}};
  for (const PlanImage& one : facts.images)
    for (const char* slot : {"_a", "_b"})
      phone.partitions[facts.slotted ? one.partition + slot : one.partition] =
          one.stock_sha256.empty() ? "gone" : one.stock_sha256;
  return phone;
}

/// A generic system that fits once two partitions went.
inline PlanFacts generic_system() {
  PlanFacts f = facts();
  PlanImage system = image("system", "given");
  system.logical = true;
  system.size = 58 * kMiB;
  system.stock_size = 48 * kMiB;
  f.images.insert(f.images.begin(), system);
  f.wipe = f.other_system = true;
  f.room = {{"drop", "system_a-cow", 4 * kMiB, 0, "left over", "", true},
            {"drop", "product_a", 6 * kMiB, 0, "not needed", "product is gone", false},
            {"resize", "system_a", 48 * kMiB, 58 * kMiB, "it grows", "", false}};
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
