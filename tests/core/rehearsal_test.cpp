/// What a rehearsal means for the kit that is made.

#include "job/rehearse.hpp"
#include "support/plan_facts.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Level level_of(const Rehearsal& rehearsal, const Plan& plan,
               const std::set<std::string>& accepted) {
  const auto found = judge_rehearsal(rehearsal, plan, accepted);
  REQUIRE(found.size() == 1);
  CHECK(found.front().id.code == FindingCode::RehearsalStops);
  return found.front().level;
}

}  // namespace

TEST_CASE("rehearsal: what was accepted by the finding that foretells it is a warning, no more") {
  PlanFacts f = facts();
  f.anti_rollback = 4;
  const Plan plan = make_plan(f);
  const auto stopped_at = [](const std::string& id) {
    return Rehearsal{.verdict = StartVerdict::Stops,
                     .cause = StartCause::StepFailed,
                     .reason = "r",
                     .steps = {{"ready", StepOutcome::ByHand}, {id, StepOutcome::Failed}}};
  };
  CHECK(level_of(stopped_at("device"), plan, {}) == Level::Problem);
  CHECK(level_of(stopped_at("device"), plan, {"device"}) == Level::Warning);
  // Something else was accepted: nobody has said yes to this.
  CHECK(level_of(stopped_at("device"), plan, {"wipes", "way-unknown"}) == Level::Problem);
  CHECK(level_of(stopped_at("no-update"), plan, {"device"}) == Level::Problem);
  CHECK(level_of(stopped_at("no-update"), plan, {"update-running"}) == Level::Warning);
  CHECK(level_of(stopped_at("anti-rollback"), plan, {"anti-rollback"}) == Level::Warning);
  CHECK(level_of(stopped_at("room-init_boot"), plan, {"partition-size-init_boot"}) ==
        Level::Warning);
  CHECK(level_of(stopped_at("unlocked"), plan, {"device"}) == Level::Problem);
  CHECK(level_of(stopped_at("write-init_boot-current"), plan, {"device"}) == Level::Problem);
  const Rehearsal old{
      .verdict = StartVerdict::Stops, .cause = StartCause::PatchLevel, .reason = "r"};
  CHECK(level_of(old, plan, {"patch-level"}) == Level::Warning);
  CHECK(level_of(old, plan, {"rollback"}) == Level::Problem);
}

TEST_CASE("rehearsal: a start with a warning is told when it is not the one of every kit") {
  const Plan plan = make_plan(facts());
  Rehearsal one{.verdict = StartVerdict::StartsWithWarning, .cause = StartCause::VerificationWarns};
  CHECK(judge_rehearsal(one, plan, {}).empty());
  one.cause = StartCause::OtherRamdisk;
  CHECK(judge_rehearsal(one, plan, {}).front().id.code == FindingCode::RehearsalWarns);
  one.verdict = StartVerdict::CannotTell;
  CHECK(judge_rehearsal(one, plan, {}).front().id.code == FindingCode::RehearsalUnknown);
  one.verdict = StartVerdict::Starts;
  one.back = RehearsedBack{.verdict = StartVerdict::Stops};
  CHECK(judge_rehearsal(one, plan, {}).front().id.code == FindingCode::RehearsalBack);
}
