/// plan.toml for programs, plan.txt for a person at the bench.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "kit/plan/plan.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

void append_text(std::string& out, std::string_view key, std::string_view value) {
  if (!value.empty()) out += fmt::format("{} = {}\n", key, toml_quote_utf8(value));
}

void append_list(std::string& out, std::string_view key, const std::vector<std::string>& values) {
  if (values.empty()) return;
  out += fmt::format("{} = [", key);
  for (const std::string& value : values)
    out += fmt::format("{}{}", &value == &values.front() ? "" : ", ", toml_quote_utf8(value));
  out += "]\n";
}

void append_step(std::string& out, std::string_view list, const Step& step) {
  out += fmt::format("\n[[{}]]\n", list);
  append_text(out, "id", step.id);
  append_text(out, "do", step.act);
  append_text(out, "about", step.about);
  append_text(out, "variable", step.variable);
  append_text(out, step.act == "mode" ? "mode" : "value", step.value);
  if (step.at_least) out += fmt::format("at_least = {}\n", *step.at_least);
  if (step.at_most) out += fmt::format("at_most = {}\n", *step.at_most);
  append_text(out, "partition", step.partition);
  append_text(out, "slot", step.slot);
  append_text(out, "file", step.file);
  append_text(out, "piece", step.piece);
  if (step.size != 0) out += fmt::format("size = {}\n", step.size);
  append_text(out, "sha256", step.sha256);
  append_text(out, "field", step.field);
  append_list(out, "settings", step.settings);
  append_text(out, "screen", step.screen);
  append_list(out, "notes", step.notes);
  append_text(out, "before", step.before);
  append_text(out, "success", step.success);
  append_text(out, "undo", step.undo);
  if (step.final) out += "final = true\n";
  out += fmt::format("data_loss = {}\nusual_seconds = {}\n", step.data_loss, step.usual_seconds);
}

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
    out +=
        fmt::format("\n{:>3}. {}{}{}\n", i + 1, step.act, step.data_loss ? "  ! DATA IS LOST" : "",
                    step.final ? "  ! CANNOT BE UNDONE" : "");
    const std::string indent = "     ";
    out += filled(step.about, indent);
    const auto line = [&](std::string_view name, std::string_view text) {
      if (!text.empty()) out += filled(fmt::format("{}: {}", name, text), indent);
    };
    if (step.act == "expect") line("expected", expectation(step));
    if (step.act == "slot" && !step.value.empty()) line("slot", step.value);
    line("file", step.file);
    line("sha-256", step.sha256);
    line("goes into", step.field);
    if (!step.settings.empty()) line("settings", fmt::format("{}", fmt::join(step.settings, ", ")));
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

std::string expectation(const Step& step) {
  if (step.at_least) return fmt::format("{} is at least {}", step.variable, *step.at_least);
  if (step.at_most) return fmt::format("{} is at most {}", step.variable, *step.at_most);
  return fmt::format("{} is {}", step.variable, step.value);
}

std::string format_plan(const Plan& plan) {
  std::string out = "# The steps of the flash, in order, and the way back.\nformat = 1\n";
  append_text(out, "device", plan.device);
  append_text(out, "build", plan.build);
  append_list(out, "first", plan.first);
  append_list(out, "back_first", plan.back_first);
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

std::string plan_for_people(const Plan& plan) {
  std::string out =
      fmt::format("Plan for {}\nbuild {}\n", printable(plan.device), printable(plan.build));
  if (!plan.verification.empty())
    out += filled(fmt::format("needs: {}. {}",
                              plan.verification == "own-key" ? "a phone that trusts the kit's key"
                                                             : "an unlocked bootloader",
                              plan.verification_why),
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
