#pragma once
/// A phone on which plans are played step by step: it holds what the plan's own words say, and
/// nothing else. A step that could not be done on a phone fails the test.

#include <map>
#include <set>

#include "kit/plan.hpp"
#include "support/check.hpp"

namespace wexlo::test {

class PlanPhone {
 public:
  std::map<std::string, std::string> partitions;  ///< what is in them: a file's digest
  std::map<std::string, std::uint64_t> logical;   ///< sizes of logical partitions, bytes
  std::uint64_t super = 0;                        ///< bytes that they may take together
  std::map<std::string, std::string> variables;
  std::string mode = "system", slot = "a";
  std::set<std::string> person;  ///< ids of steps that a person did
  bool slotted = true, wiped = false;
  /// What else a step stands for: a package that is handed over, or installed.
  std::function<void(PlanPhone&, const Step&)> outside;

  void play(const std::vector<Step>& steps) {
    started_from_ = slot;
    for (const Step& step : steps) {
      CAPTURE(step.id);
      CAPTURE(step.about);
      one(step);
    }
  }

 private:
  void one(const Step& step) {
    CHECK_FALSE(step.before.empty());
    CHECK_FALSE(step.success.empty());
    CHECK(step.usual_seconds > 0);
    if (step.act == "mode") {
      mode = step.value;
    } else if (step.act == "expect") {
      expect(step);
    } else if (step.act == "write") {
      write(step);
    } else if (step.act == "drop") {
      REQUIRE(mode == "userspace");
      REQUIRE(logical.erase(step.partition) == 1);
      partitions.erase(step.partition);
    } else if (step.act == "resize" || step.act == "create") {
      REQUIRE(mode == "userspace");
      REQUIRE(logical.contains(step.partition) == (step.act == "resize"));
      logical[step.partition] = step.size;
      std::uint64_t taken = 0;
      for (const auto& [name, size] : logical)
        taken += size;
      REQUIRE(taken <= super);
    } else if (step.act == "slot") {
      slot = step.slot == "current" ? started_from_ : other();
      if (!step.value.empty()) CHECK(step.value == slot);
    } else if (step.act == "wipe") {
      CHECK(step.data_loss);
      wiped = true;
    } else if (step.act == "hand-over" || step.act == "install") {
      if (step.act == "hand-over") CHECK_FALSE(step.settings.empty());
      if (step.act == "install") REQUIRE(mode == "recovery");
      if (outside) outside(*this, step);
    } else if (step.act == "restart") {
      mode = "system";
    } else {
      REQUIRE(step.act == "person");
      person.insert(step.id);
      if (step.id == "unlock") variables["unlocked"] = "yes";
      if (step.data_loss) wiped = true;
    }
  }

  void expect(const Step& step) {
    REQUIRE((mode == "bootloader" || mode == "userspace"));
    const auto at = variables.find(step.variable);
    if (at == variables.end()) return;  // unknown is not "no"
    if (step.at_least) {
      CHECK(std::stoull(at->second) >= *step.at_least);
    } else if (step.at_most) {
      CHECK(std::stoull(at->second) <= *step.at_most);
    } else {
      CHECK(("|" + step.value + "|").find("|" + at->second + "|") != std::string::npos);
    }
  }

  [[nodiscard]] std::string other() const { return started_from_ == "a" ? "b" : "a"; }

  void write(const Step& step) {
    REQUIRE_FALSE(step.file.empty());
    REQUIRE(step.sha256.size() > 0);
    std::string name = step.partition;
    if (!step.slot.empty()) {
      REQUIRE(slotted);
      name += "_" + (step.slot == "current" ? started_from_ : other());
    }
    if (logical.contains(name)) {
      REQUIRE(mode == "userspace");
      CHECK(step.size <= logical[name]);
    } else {
      REQUIRE(mode == "bootloader");
      REQUIRE(variables["unlocked"] == "yes");
    }
    // Pieces of one image come one behind the other.
    const bool later = !step.piece.empty() && step.piece.front() != '1';
    partitions[name] = later ? partitions[name] + "+" + step.sha256 : step.sha256;
  }

  std::string started_from_ = "a";
};

}  // namespace wexlo::test
