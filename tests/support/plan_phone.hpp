#pragma once
/// A phone on which plans are played step by step: it holds what the plan's own words say, and
/// nothing else. A step that a phone would refuse fails the test: a write or a wipe while it is
/// locked, an image larger than its partition, a logical partition from the bootloader, a variable
/// that no phone has.

#include <map>
#include <set>

#include "kit/plan/plan.hpp"
#include "support/check.hpp"

namespace wexlo::test {

class PlanPhone {
 public:
  std::map<std::string, std::string> partitions;  ///< what is in them: a file's digest
  std::map<std::string, std::uint64_t> logical;   ///< sizes of logical partitions, bytes
  std::uint64_t super = 0;                        ///< bytes that they may take together
  std::map<std::string, std::string> variables;   ///< beside those that it works out itself
  std::set<std::string> silent;                   ///< variables that this one does not know
  std::map<std::string, std::uint64_t> sizes;     ///< of partitions outside of super, bytes
  std::string mode = "system", slot = "a";
  std::set<std::string> person;  ///< ids of steps that a person did
  bool slotted = true, wiped = false;
  /// What else a step stands for: a package that is handed over, or installed.
  std::function<void(PlanPhone&, const Step&)> outside;

  /// Every expectation has to hold.
  void play(const std::vector<Step>& steps) { CHECK(stopped_by(steps) == ""); }

  /// As far as the phone is what the plan expects. @return the expectation that does not hold;
  /// empty: all was done
  std::string stopped_by(const std::vector<Step>& steps) {
    started_from_ = slot;
    for (const Step& step : steps) {
      CAPTURE(step.id);
      CAPTURE(step.about);
      if (step.act == "expect" && !holds(step)) return step.id;
      one(step);
    }
    return {};
  }

 private:
  void one(const Step& step) {
    CHECK_FALSE(step.before.empty());
    CHECK_FALSE(step.success.empty());
    CHECK(step.usual_seconds > 0);
    if (step.act == "mode") {
      mode = step.value;
    } else if (step.act == "expect") {
      // It held.
    } else if (step.act == "write") {
      write(step);
    } else if (step.act == "drop") {
      REQUIRE(takes_logical());
      REQUIRE(logical.erase(step.partition) == 1);
      partitions.erase(step.partition);
    } else if (step.act == "resize" || step.act == "create") {
      REQUIRE(takes_logical());
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
      REQUIRE((mode == "bootloader" || mode == "userspace"));
      REQUIRE(is_unlocked());
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
      if (step.id == "own-key") variables["unlocked"] = "no";
      if (step.data_loss) wiped = true;
    }
  }

  [[nodiscard]] bool is_unlocked() const { return variables.at("unlocked") == "yes"; }
  [[nodiscard]] bool takes_logical() const { return mode == "userspace" && is_unlocked(); }

  [[nodiscard]] std::uint64_t size_of(const std::string& partition) const {
    const auto at = sizes.find(partition);
    return at == sizes.end() ? std::uint64_t{64} << 20 : at->second;
  }

  /// What it answers; empty: it does not know that variable.
  [[nodiscard]] std::string answer(const std::string& variable) const {
    static const std::string kSize = "partition-size:";
    if (silent.contains(variable)) return {};
    if (const auto at = variables.find(variable); at != variables.end()) return at->second;
    if (variable == "current-slot" && slotted) return slot;
    if (variable == "snapshot-update-status" && slotted) return "none";
    if (variable == "anti") return "0";
    if (variable.starts_with(kSize)) {
      const std::string name = variable.substr(kSize.size());
      for (const std::string& one : {name, name + "_" + slot})
        if (partitions.contains(one)) return std::to_string(size_of(one));
    }
    FAIL("no phone knows ", variable);
    return {};
  }

  [[nodiscard]] bool holds(const Step& step) const {
    REQUIRE((mode == "bootloader" || mode == "userspace"));
    const std::string said = answer(step.variable);
    if (said.empty()) return true;  // unknown is not "no"
    if (step.at_least) return std::stoull(said) >= *step.at_least;
    if (step.at_most) return std::stoull(said) <= *step.at_most;
    return ("|" + step.value + "|").contains("|" + said + "|");
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
      REQUIRE(step.size <= size_of(name));
    }
    REQUIRE(is_unlocked());
    // Pieces of one image come one behind the other.
    const bool later = !step.piece.empty() && step.piece.front() != '1';
    partitions[name] = later ? partitions[name] + "+" + step.sha256 : step.sha256;
  }

  std::string started_from_ = "a";
};

}  // namespace wexlo::test
