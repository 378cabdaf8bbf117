#include "kit/plan/plan_text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "text/text.hpp"

namespace wexlo {
namespace {

/// Words in lines of at most 96 columns, each after `indent`.
std::string filled(std::string_view text, std::string_view indent) {
  constexpr std::size_t kWidth = 96;
  std::string out, line(indent);
  for (const std::string_view word : split_words(text)) {
    if (line.size() > indent.size() && line.size() + 1 + word.size() > kWidth) {
      out += line + "\n";
      line = indent;
    }
    if (line.size() > indent.size()) line += ' ';
    line += word;
  }
  return out + line + "\n";
}

void append_for_people(std::string& out, const std::vector<Step>& steps) {
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const Step& step = steps[i];
    out += fmt::format("\n{:>3}. {}{}{}\n", i + 1, act_word(step.act),
                       step.risk.data_loss ? "  ! DATA IS LOST" : "",
                       step.risk.final ? "  ! CANNOT BE UNDONE" : "");
    const std::string indent = "     ";
    out += filled(step.about, indent);
    const auto line = [&](std::string_view name, std::string_view text) {
      if (!text.empty()) out += filled(fmt::format("{}: {}", name, text), indent);
    };
    if (const auto* one = step.get<act::Expect>()) line("expected", expectation(*one));
    if (const auto* one = step.get<act::ChooseSlot>()) line("slot", one->letter);
    if (const KitFile* file = file_of(step.act)) {
      line("file", file->file);
      line("sha-256", file->sha256);
    }
    if (const auto* one = step.get<act::HandOver>()) {
      line("goes into", one->field);
      line("settings", fmt::format("{}", fmt::join(one->settings, ", ")));
    }
    for (const std::string& note : step.notes)
      line("on this phone", note);
    line("before", step.before);
    line("screen", step.screen);
    line("done when", step.success);
    if (!step.undo.empty()) line("way back", step.undo);
    out += fmt::format("{}usual time: {}\n", indent, usual_time(step.usual_seconds));
  }
}

void append_first(std::string& out, const std::vector<std::string>& sentences) {
  if (sentences.empty()) return;
  out += "\nBefore anything is done:\n";
  for (const std::string& one : sentences)
    out += "  !  " + filled(one, "     ").substr(5);
}

}  // namespace

std::string usual_time(unsigned seconds) {
  if (seconds < 60) return fmt::format("{} s", seconds);
  return fmt::format("{} min", (seconds + 59) / 60);
}

std::string expectation(const act::Expect& expect) {
  if (expect.at_least) return fmt::format("{} is at least {}", expect.variable, *expect.at_least);
  if (expect.at_most) return fmt::format("{} is at most {}", expect.variable, *expect.at_most);
  return fmt::format("{} is {}", expect.variable, expect.value);
}

std::string plan_for_people(const Plan& plan) {
  std::string out =
      fmt::format("Plan for {}\nbuild {}\n", printable(plan.device), printable(plan.build));
  if (plan.needs != Needs::Unknown)
    out += filled(fmt::format("needs: {}. {}",
                              plan.needs == Needs::OwnKey ? "a phone that trusts the kit's key"
                                                          : "an unlocked bootloader",
                              plan.needs_why),
                  "");
  append_first(out, plan.first);
  append_for_people(out, plan.steps);
  out += "\n\nThe way back\n";
  append_first(out, plan.back_first);
  append_for_people(out, plan.back);
  // Names and notes come from packages and sheets; a terminal shows this file as it is.
  return printable_lines(out);
}

}  // namespace wexlo
