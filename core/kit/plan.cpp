#include "kit/plan.hpp"

#include <fmt/format.h>

#include "base/text.hpp"

namespace wexlo {
namespace {

constexpr unsigned kSecondsPerWrite = 5;
constexpr unsigned kFirstStart = 180;

Step expect(std::string id, std::string variable, std::string value, std::string about) {
  return {.id = std::move(id),
          .act = "expect",
          .about = std::move(about),
          .before = "the phone is in its bootloader and connected",
          .success = "the variable has the value",
          .variable = std::move(variable),
          .value = std::move(value)};
}

Step room_for(const PlanImage& image) {
  Step step = expect("room-" + image.partition, "partition-size:" + image.partition, "",
                     fmt::format("{} has to hold {} bytes.", image.partition, image.size));
  step.at_least = image.size;
  step.success = "the variable is at least that number; a phone that does not know it may go on";
  return step;
}

Step write(const PlanImage& image, const std::string& slot, bool back) {
  Step step{.id = fmt::format("{}-{}-{}", back ? "back" : "write", image.partition, slot),
            .act = "write",
            .before = "the expectations above held",
            .success = "the phone answers that the write is done",
            .usual_seconds = kSecondsPerWrite,
            .partition = image.partition,
            .slot = slot,
            .file = back ? image.stock_file : image.flash_file,
            .sha256 = back ? image.stock_sha256 : image.flash_sha256,
            .size = back ? image.stock_size : image.size};
  const std::string where = slot == "current" ? "the slot the phone starts from" : "the other slot";
  step.about =
      fmt::format("Writes the {} {} to {}.", back ? "stock" : "patched", image.partition, where);
  if (!back) step.undo = fmt::format("back-{}-{}", image.partition, slot);
  return step;
}

Step restart() {
  return {.id = "restart",
          .act = "restart",
          .about = "Starts the system; the first start may take a few minutes.",
          .before = "every write above was done",
          .success = "the system comes up",
          .usual_seconds = kFirstStart};
}

/// Locking is left to a person: it erases the user's data, and what is trusted is the owner's say.
Step lock_with_key(const PlanFacts& facts) {
  return {.id = "own-key",
          .act = "person",
          .about = fmt::format("Gives the phone the public key {} as its owner's, in the way its "
                               "maker has for that, then locks the bootloader. Never lock without "
                               "it: the phone would not start.",
                               facts.key_file),
          .before = "every write above was done, and the owner has a copy of what matters",
          .success = "the phone starts locked, and shows that it trusts an owner's key",
          .undo = "unlock the bootloader again",
          .data_loss = true,
          .usual_seconds = 300,
          .file = facts.key_file,
          .sha256 = facts.key_sha256};
}

void append_text(std::string& out, std::string_view key, std::string_view value) {
  if (!value.empty()) out += fmt::format("{} = {}\n", key, toml_quote(value));
}

void append_step(std::string& out, std::string_view list, const Step& step) {
  out += fmt::format("\n[[{}]]\n", list);
  append_text(out, "id", step.id);
  append_text(out, "do", step.act);
  append_text(out, "about", step.about);
  append_text(out, "variable", step.variable);
  append_text(out, "value", step.value);
  if (step.at_least) out += fmt::format("at_least = {}\n", *step.at_least);
  append_text(out, "partition", step.partition);
  append_text(out, "slot", step.slot);
  append_text(out, "file", step.file);
  if (step.size != 0) out += fmt::format("size = {}\n", step.size);
  append_text(out, "sha256", step.sha256);
  append_text(out, "before", step.before);
  append_text(out, "success", step.success);
  append_text(out, "undo", step.undo);
  out += fmt::format("data_loss = {}\nusual_seconds = {}\n", step.data_loss, step.usual_seconds);
}

}  // namespace

Plan make_plan(const PlanFacts& facts) {
  Plan plan{.device = facts.device,
            .build = facts.build,
            .verification = facts.verification,
            .verification_why = facts.verification_why,
            .key_file = facts.key_file,
            .key_sha256 = facts.key_sha256};
  const std::vector<std::string> slots = facts.slots == Slots::Both
                                             ? std::vector<std::string>{"current", "other"}
                                             : std::vector<std::string>{"current"};
  const auto checks = [&](std::vector<Step>& steps) {
    if (!facts.device.empty())
      steps.push_back(expect("device", "product", facts.device,
                             "The images are for this device and no other."));
    steps.push_back(
        expect("unlocked", "unlocked", "yes", "A locked bootloader refuses every write."));
  };
  const auto writes = [&](std::vector<Step>& steps, bool back) {
    for (const std::string& slot : slots)
      for (const PlanImage& image : facts.images)
        steps.push_back(write(image, slot, back));
  };
  checks(plan.steps);
  for (const PlanImage& image : facts.images)
    plan.steps.push_back(room_for(image));
  writes(plan.steps, false);
  if (facts.wipe)
    plan.steps.push_back({.id = "wipe",
                          .act = "wipe",
                          .about = "Erases the user's data, as was asked for.",
                          .before = "the owner has agreed and has a copy of what matters",
                          .success = "the phone answers that the erase is done",
                          .data_loss = true,
                          .usual_seconds = 30});
  if (facts.verification == "own-key") plan.steps.push_back(lock_with_key(facts));
  plan.steps.push_back(restart());
  checks(plan.back);
  writes(plan.back, true);
  plan.back.push_back(restart());
  return plan;
}

std::string format_plan(const Plan& plan) {
  std::string out = "# The steps of the flash, in order, and the way back.\nformat = 1\n";
  append_text(out, "device", plan.device);
  append_text(out, "build", plan.build);
  if (!plan.verification.empty()) {
    out += "\n[verification]\n";
    append_text(out, "needs", plan.verification);
    append_text(out, "why", plan.verification_why);
    append_text(out, "key_file", plan.key_file);
    append_text(out, "key_sha256", plan.key_sha256);
  }
  for (const Step& step : plan.steps)
    append_step(out, "step", step);
  for (const Step& step : plan.back)
    append_step(out, "back", step);
  return out;
}

}  // namespace wexlo
