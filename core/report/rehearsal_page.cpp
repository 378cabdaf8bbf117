#include "report/rehearsal_page.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace wexlo {
namespace {

using report::Tone;

Tone tone_of(StartVerdict verdict) {
  switch (verdict) {
    case StartVerdict::Starts: return Tone::Good;
    case StartVerdict::StartsWithWarning:
    case StartVerdict::CannotTell: return Tone::Warning;
    case StartVerdict::OtherSlot:
    case StartVerdict::Stops: return Tone::Bad;
  }
  return Tone::Plain;
}

Tone outcome_tone(StepOutcome outcome) {
  switch (outcome) {
    case StepOutcome::Failed: return Tone::Bad;
    case StepOutcome::Unknown:
    case StepOutcome::Skipped: return Tone::Warning;
    default: return Tone::Plain;
  }
}

report::Table steps_table(const std::vector<PlayedStep>& steps) {
  report::Table out{{"step", "outcome", ""}, {}};
  for (const PlayedStep& one : steps)
    out.rows.push_back({{one.id},
                        {std::string(outcome_word(one.outcome)), outcome_tone(one.outcome)},
                        {one.detail, Tone::Faint}});
  return out;
}

}  // namespace

void add_rehearsal(report::Document& document, const Rehearsal& rehearsal) {
  document.add(report::Heading{"The rehearsal", "rehearsal"});
  document.add(report::Text{
      fmt::format("The plan was played on a simulated phone: {}.", start_word(rehearsal.verdict)),
      tone_of(rehearsal.verdict)});
  document.add(report::Text{rehearsal.reason, tone_of(rehearsal.verdict)});
  if (rehearsal.addon != AddonSeen::None)
    document.add(report::Text{rehearsal.addon == AddonSeen::Seen
                                  ? "What the recipe put in is in what runs."
                                  : "What the recipe put in is not in what runs.",
                              rehearsal.addon == AddonSeen::Seen ? Tone::Good : Tone::Warning});
  if (!rehearsal.not_here.empty())
    document.add(report::Text{fmt::format("Taken for the phone's own, and not looked at: {}.",
                                          fmt::join(rehearsal.not_here, ", ")),
                              Tone::Faint});
  document.add(steps_table(rehearsal.steps));
  if (!rehearsal.boot_log.empty()) {
    document.add(report::Heading{"What the start showed", "boot-log", 3});
    document.add(report::Lines{rehearsal.boot_log});
  }
  if (!rehearsal.back) return;
  document.add(report::Heading{"The way back, rehearsed", "rehearsal-back", 3});
  document.add(report::Text{
      fmt::format("{} {}", rehearsal.back->reason,
                  rehearsal.back->stock_again ? "Every image is stock again, byte for byte."
                                              : "Not every image is the stock one again."),
      tone_of(rehearsal.back->verdict)});
  document.add(steps_table(rehearsal.back->steps));
}

Json played_json(const std::vector<PlayedStep>& steps) {
  Json out = Json::array();
  for (const PlayedStep& one : steps)
    out.push_back({{"id", one.id}, {"outcome", outcome_word(one.outcome)}, {"detail", one.detail}});
  return out;
}

Json rehearsal_json(const Rehearsal& rehearsal) {
  Json log = Json::array(), not_here = Json::array();
  for (const std::string& line : rehearsal.boot_log)
    log.push_back(line);
  for (const std::string& name : rehearsal.not_here)
    not_here.push_back(name);
  Json out = {{"verdict", start_word(rehearsal.verdict)}, {"reason", rehearsal.reason},
              {"cause", cause_word(rehearsal.cause)},     {"addon", addon_word(rehearsal.addon)},
              {"steps", played_json(rehearsal.steps)},    {"boot_log", std::move(log)},
              {"not_here", std::move(not_here)}};
  out["back"] = Json();
  if (rehearsal.back)
    out["back"] = {{"verdict", start_word(rehearsal.back->verdict)},
                   {"reason", rehearsal.back->reason},
                   {"stock_again", rehearsal.back->stock_again},
                   {"steps", played_json(rehearsal.back->steps)}};
  return out;
}

}  // namespace wexlo
