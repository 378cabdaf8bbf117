#include "play_text.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "kit/plan/plan_text.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

std::string outcome_text(const Paint& paint, StepOutcome outcome) {
  const std::string word(outcome_word(outcome));
  switch (outcome) {
    case StepOutcome::Failed: return paint.bad(word);
    case StepOutcome::Unknown: return paint.warning(word);
    case StepOutcome::Skipped: return paint.faint(word);
    default: return paint.good(word);
  }
}

}  // namespace

std::string played_text(const Paint& paint, const std::vector<Step>& plan,
                        const std::vector<PlayedStep>& played, bool all) {
  Table table({">#", "step", "outcome", ""});
  std::size_t from = 0, first = 0, held = 0;
  // Values that are as expected are one line, unless each is asked for.
  const auto flush = [&] {
    if (held > 0)
      table.row({held == 1 ? fmt::format("{}", first) : fmt::format("{}-{}", first, from),
                 fmt::format("Check {} of the phone", counted(held, "value")),
                 outcome_text(paint, StepOutcome::Confirmed), ""});
    held = 0;
  };
  for (const PlayedStep& one : played) {
    // Modes may come again: the next one of that name is meant.
    auto at = std::ranges::find(plan.begin() + static_cast<std::ptrdiff_t>(from), plan.end(),
                                one.id, &Step::id);
    if (at == plan.end()) at = std::ranges::find(plan, one.id, &Step::id);
    if (at == plan.end()) continue;
    const auto* want = at->get<act::Expect>();
    const bool folds = !all && want != nullptr && one.outcome == StepOutcome::Confirmed;
    if (!folds) flush();
    from = static_cast<std::size_t>(at - plan.begin()) + 1;
    if (folds) {
      if (held++ == 0) first = from;
      continue;
    }
    table.row({fmt::format("{}", from),
               want != nullptr ? "Check " + expectation(*want) : step_title(*at),
               outcome_text(paint, one.outcome), printable(one.detail)});
  }
  flush();
  return table.text(paint);
}

std::string start_text(const Paint& paint, StartVerdict verdict) {
  std::string word(start_word(verdict));
  switch (verdict) {
    case StartVerdict::Starts: return paint.good(word);
    case StartVerdict::StartsWithWarning:
    case StartVerdict::CannotTell: return paint.warning(word);
    case StartVerdict::OtherSlot:
    case StartVerdict::Stops: return paint.bad(word);
  }
  return word;
}

}  // namespace wexlo::cli
