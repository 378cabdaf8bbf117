#include "kit/facts/room.hpp"

#include <algorithm>
#include <random>

#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

SuperFacts free_super() {
  return {.partitions = {{"system_a", 48 * kMiB, "main"},
                         {"product_a", 6 * kMiB, "main"},
                         {"vendor_a", 6 * kMiB, "main"},
                         {"system_a-cow", 4 * kMiB, "main"}},
          .groups = {{"main", 66 * kMiB}},
          .size = 66 * kMiB};
}

std::string steps(const RoomPlan& plan) {
  std::string out;
  for (const RoomStep& step : plan.steps)
    out += std::string(room_act_word(step.act)) + " " + step.partition + "; ";
  return out;
}

std::uint64_t taken(const SuperFacts& facts) {
  std::uint64_t out = 0;
  for (const LogicalPartition& one : facts.partitions)
    out += align_up(one.size, kMiB);
  return out;
}

}  // namespace

TEST_CASE("room: what fits as it is needs no step; what fits into the free room is resized") {
  const RoomPlan same = make_room(free_super(), "system_a", 48 * kMiB);
  CHECK(same.fits);
  CHECK(same.steps.empty());
  const RoomPlan grown = make_room(free_super(), "system_a", 50 * kMiB);
  CHECK(grown.fits);
  CHECK(steps(grown) == "resize system_a; ");
  CHECK(grown.free == 2 * kMiB);
}

TEST_CASE("room: leftovers of an update go first, then what a generic system brings itself") {
  CHECK(steps(make_room(free_super(), "system_a", 54 * kMiB)) ==
        "drop system_a-cow; resize system_a; ");
  const RoomPlan more = make_room(free_super(), "system_a", 58 * kMiB);
  CHECK(more.fits);
  CHECK(steps(more) == "drop system_a-cow; drop product_a; resize system_a; ");
  CHECK(more.steps[0].leftover);
  CHECK_FALSE(more.steps[1].leftover);
  CHECK(more.steps[1].loss.find("product") != std::string::npos);
  CHECK(more.steps[1].before == 6 * kMiB);
}

TEST_CASE("room: the other slot goes last, and only where that helps") {
  SuperFacts facts = free_super();
  facts.partitions.push_back({"system_b", 20 * kMiB, "main"});
  facts.size = facts.groups[0].size = 86 * kMiB;
  CHECK(steps(make_room(facts, "system_a", 73 * kMiB)) ==
        "drop system_a-cow; drop system_b; resize system_a; ");
  // In a group of its own it frees nothing for this one.
  facts.partitions.back().group = "other";
  facts.groups = {{"main", 66 * kMiB}, {"other", 20 * kMiB}};
  const RoomPlan plan = make_room(facts, "system_a", 75 * kMiB);
  CHECK_FALSE(plan.fits);
  CHECK(steps(plan).find("system_b") == std::string::npos);
}

TEST_CASE("room: what is needed for the phone is never dropped, and the plan says that it fails") {
  const RoomPlan plan = make_room(free_super(), "system_a", 61 * kMiB);
  CHECK_FALSE(plan.fits);
  CHECK(steps(plan).find("vendor") == std::string::npos);
  CHECK(plan.why.find("only") != std::string::npos);
}

TEST_CASE("room: a group's bound counts, though super itself has room") {
  SuperFacts facts = free_super();
  facts.size = 200 * kMiB;
  facts.groups = {{"main", 64 * kMiB}};
  CHECK(free_for(facts, "system_a") == 0);
  facts.groups = {{"main", 0}};  // no bound
  CHECK(free_for(facts, "system_a") == 136 * kMiB);
}

TEST_CASE("room: partitions of odd sizes take whole units") {
  SuperFacts facts{.partitions = {{"system", kMiB + 1, ""}, {"vendor", 1, ""}},
                   .groups = {},
                   .size = 4 * kMiB,
                   .slotted = false};
  CHECK(free_for(facts, "system") == kMiB);
}

TEST_CASE("room: whatever super holds, a plan that fits does fit, and drops nothing needlessly") {
  Random random(11);
  const char* names[] = {"system", "vendor", "product", "system_ext", "odm", "system-cow"};
  int planned = 0;
  for (int round = 0; round < 2000; ++round) {
    SuperFacts facts{.partitions = {}, .groups = {{"main", 0}}, .size = 0};
    for (const char* slot : {"_a", "_b"})
      for (const char* name : names) {
        if (random() % 3 == 0) continue;
        std::string full = std::string(name) + slot;
        if (std::string(name) == "system-cow") full = std::string("system") + slot + "-cow";
        facts.partitions.push_back({full, (random() % 40) * kMiB, "main"});
      }
    if (std::ranges::find(facts.partitions, "system_a", &LogicalPartition::name) ==
        facts.partitions.end())
      facts.partitions.push_back({"system_a", 30 * kMiB, "main"});
    facts.size = taken(facts) + (random() % 20) * kMiB;
    if (random() % 2 == 0) facts.groups[0].size = facts.size;
    const std::uint64_t wanted = (random() % 120) * kMiB;
    const RoomPlan plan = make_room(facts, "system_a", wanted);
    CAPTURE(round);
    const SuperFacts after = after_room(facts, plan);
    if (!plan.fits) {
      // Without all that may go there is no room either.
      CHECK(taken(after) > facts.size);
      continue;
    }
    ++planned;
    CHECK(taken(after) <= facts.size);
    for (const RoomStep& step : plan.steps) {
      if (step.act != RoomAct::Drop) continue;
      CHECK(step.partition != "vendor_a");
      CHECK(step.partition != "odm_a");
      if (step.leftover) continue;
      SuperFacts kept = after;
      kept.partitions.push_back({step.partition, step.before, "main"});
      CHECK(taken(kept) > facts.size);
    }
    if (!plan.steps.empty()) CHECK(plan.steps.back().act == RoomAct::Resize);
  }
  CHECK(planned > 500);
}
