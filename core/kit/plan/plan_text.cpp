#include "kit/plan/plan_text.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <set>

#include "text/fill.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::size_t kWidth = 80;
constexpr std::string_view kSizeVariable = "partition-size:";

/// The time is told where it is worth waiting for.
constexpr unsigned kWorthTelling = 30;

std::string slot_title(SlotRole slot) {
  return slot == SlotRole::Other ? " (the other slot)" : "";
}

std::string task_title(const act::ByHand& act) {
  switch (act.task) {
    case Task::Ready: return "Get ready";
    case Task::Unlock: return "Unlock the bootloader";
    case Task::LockWithKey: return "Give the phone your key, then lock it";
    case Task::Wipe: return "Erase the user's data, in recovery's menu";
    case Task::StartRecovery: return "Start recovery straight away";
    case Task::Write: return "Write " + act.partition + slot_title(act.slot);
    case Task::Fill: return "Fill " + act.partition + " again";
    case Task::Look: return "Look at the phone";
    case Task::Identify: return "Make sure that it is the right phone";
    case Task::StartOnline: return "Start the system once, and go online";
  }
  return {};
}

std::string mode_title(Mode mode) {
  switch (mode) {
    case Mode::Bootloader: return "Start the bootloader";
    case Mode::Userspace: return "Go to the userspace mode";
    case Mode::Download: return "Start download mode";
    case Mode::Recovery: return "Start recovery";
  }
  return {};
}

/// One overload an act: a new act does not compile without its title.
struct Titles {
  std::string operator()(const act::Expect&) const { return "Check, all of these:"; }
  std::string operator()(const act::EnterMode& act) const { return mode_title(act.mode); }
  std::string operator()(const act::Write& act) const {
    return "Write " + act.partition + slot_title(act.slot) +
           (act.pieces > 1 ? fmt::format(", piece {} of {}", act.piece, act.pieces) : "");
  }
  std::string operator()(const act::Start&) const { return "Start once, without writing"; }
  std::string operator()(const act::Drop& act) const {
    return "Delete logical partition " + act.partition;
  }
  std::string operator()(const act::Create& act) const {
    return "Make logical partition " + act.partition + " again";
  }
  std::string operator()(const act::Resize& act) const {
    return fmt::format("Resize logical partition {} to {} bytes", act.partition, act.size);
  }
  std::string operator()(const act::ChooseSlot& act) const {
    return act.letter.empty() ? "Choose the other slot" : "Choose slot " + act.letter;
  }
  std::string operator()(const act::CancelUpdate&) const { return "Cancel the waiting update"; }
  std::string operator()(const act::Install&) const { return "Install a package from recovery"; }
  std::string operator()(const act::HandOver&) const { return "Hand over to the other program"; }
  std::string operator()(const act::Wipe&) const { return "Erase the user's data"; }
  std::string operator()(const act::Restart&) const { return "Start the system"; }
  std::string operator()(const act::ByHand& act) const { return task_title(act); }
};

/// One line of what is checked together, and why.
struct Expected {
  std::string clause, why;
};

std::vector<Expected> expectations(const std::vector<Step>& steps, const StepGroup& group) {
  std::vector<Expected> out;
  std::string sizes;
  for (std::size_t i = group.first; i <= group.last; ++i) {
    const auto& expect = *steps[i].get<act::Expect>();
    if (expect.at_least && expect.variable.starts_with(kSizeVariable))
      sizes += fmt::format("{}{} {}", sizes.empty() ? "" : ", ",
                           expect.variable.substr(kSizeVariable.size()), *expect.at_least);
    else
      out.push_back({expectation(expect), steps[i].about});
  }
  if (!sizes.empty())
    out.push_back({"partition-size, in bytes at least: " + sizes, "Not every phone tells it."});
  return out;
}

/// Whether "done when" says more than that the phone answered.
bool success_matters(const Step& step) {
  return !step.is<act::EnterMode>() && !step.is<act::Write>() && !step.is<act::Drop>() &&
         !step.is<act::Create>() && !step.is<act::Resize>() && !step.is<act::ChooseSlot>() &&
         !(step.is<act::ByHand>() && step.get<act::ByHand>()->task == Task::Ready);
}

bool screen_matters(const Step& step) {
  return !step.screen.empty() && !step.is<act::Write>();
}

/// Both ways on one page. What was said once is not said again.
class Page {
 public:
  explicit Page(const Plan& plan) : plan_(plan) {}

  /// @param letter  before the numbers of the way back: "B"
  std::string way(const std::vector<Step>& steps, std::string letter) {
    letter_ = std::move(letter);
    out_.clear();
    for (const StepGroup& group : grouped(steps)) {
      const Step& step = steps[group.first];
      title(group, step);
      if (!step.is<act::Expect>()) {
        body(step);
        continue;
      }
      for (const Expected& one : expectations(steps, group))
        bullet(one.clause + (is_new(one.why) ? ". " + one.why : ""));
    }
    return std::move(out_);
  }

 private:
  void title(const StepGroup& group, const Step& step) {
    std::string text = step_title(step);
    if (const KitFile* file = file_of(step.act);
        file != nullptr && !file->file.empty() && step.is<act::Write>())
      text += ": " + file->file;
    if (step.usual_seconds >= kWorthTelling)
      text += fmt::format(" ({})", usual_time(step.usual_seconds));
    if (!step.undo.empty()) text += fmt::format(" [back: {}]", undo_of(step));
    if (step.risk.data_loss) text += "  ! DATA IS LOST";
    if (step.risk.final) text += "  ! CANNOT BE UNDONE";
    const std::string number = letter_ + group.number() + ". ";
    out_ += filled(text, kWidth, indent(), fmt::format("{:>{}}", number, indent().size()));
  }

  static std::string indent() { return std::string(7, ' '); }

  void line(std::string_view text) {
    if (!text.empty()) out_ += filled(text, kWidth, indent());
  }
  void bullet(std::string_view text) {
    if (!text.empty()) out_ += filled(text, kWidth, indent() + "  ", indent() + "- ");
  }

  /// A text is told the first time alone.
  bool is_new(const std::string& text) { return !text.empty() && told_.insert(text).second; }

  void body(const Step& step) {
    // What its title says whole needs no sentence; nor does a mode whose keys are told.
    const bool titled = step.is<act::Write>() || (step.is<act::EnterMode>() && !step.notes.empty());
    if (!titled && is_new(step.about)) line(step.about);
    if (const auto* one = step.get<act::HandOver>()) {
      if (!step.about.contains(one->file.file)) line("file: " + one->file.file);
      line("goes into: " + one->field);
      line(fmt::format("settings: {}", fmt::join(one->settings, ", ")));
    }
    for (const std::string& note : step.notes)
      bullet(note);
    if (step.risk.data_loss || step.risk.final) line("before: " + step.before);
    if (screen_matters(step) && is_new(step.screen)) line("you see: " + step.screen);
    const std::string done = success_of(step);
    if (success_matters(step) && is_new(done)) line("done when: " + done);
  }

  /// The step back by its number; of some by hand: words.
  std::string undo_of(const Step& step) const {
    for (const StepGroup& group : grouped(plan_.back))
      for (std::size_t i = group.first; i <= group.last; ++i)
        if (plan_.back[i].id == step.undo) return "B" + group.number();
    return step.undo;
  }

  /// The build stands at the top of the page, and is long.
  std::string success_of(const Step& step) const {
    std::string out = step.success;
    if (const std::size_t at = out.find(plan_.build); !plan_.build.empty() && at != out.npos)
      out.replace(at, plan_.build.size(), "the one named at the top");
    return out;
  }

  const Plan& plan_;
  std::string letter_, out_;
  std::set<std::string> told_;
};

void append_first(std::string& out, const std::vector<std::string>& sentences) {
  if (sentences.empty()) return;
  out += "\nBefore anything is done:\n";
  for (const std::string& one : sentences)
    out += filled(one, kWidth, "     ", "  !  ");
}

}  // namespace

unsigned whole_time(const std::vector<Step>& steps) {
  unsigned out = 0;
  for (const Step& step : steps)
    out += step.usual_seconds;
  return out;
}

std::string usual_time(unsigned seconds) {
  if (seconds < 60) return fmt::format("{} s", seconds);
  return fmt::format("{} min", (seconds + 59) / 60);
}

std::string expectation(const act::Expect& expect) {
  if (expect.at_least) return fmt::format("{} is at least {}", expect.variable, *expect.at_least);
  if (expect.at_most) return fmt::format("{} is at most {}", expect.variable, *expect.at_most);
  return fmt::format("{} is {}", expect.variable, expect.value);
}

std::string step_title(const Step& step) {
  return std::visit(Titles(), step.act);
}

std::string StepGroup::number() const {
  return first == last ? fmt::format("{}", first + 1) : fmt::format("{}-{}", first + 1, last + 1);
}

std::vector<StepGroup> grouped(const std::vector<Step>& steps) {
  std::vector<StepGroup> out;
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const bool goes_on = i > 0 && steps[i].is<act::Expect>() && steps[i - 1].is<act::Expect>();
    if (goes_on)
      out.back().last = i;
    else
      out.push_back({i, i});
  }
  return out;
}

std::vector<std::string> expectation_lines(const std::vector<Step>& steps, const StepGroup& group) {
  std::vector<std::string> out;
  for (const Expected& one : expectations(steps, group))
    out.push_back(one.clause + ". " + one.why);
  return out;
}

namespace {

bool by_itself(const Step& step) {
  return !step.is<act::ByHand>() && !step.is<act::Install>() && !step.is<act::HandOver>();
}

/// "2-14, 16": the steps that need nobody, while the phone is on the wire.
std::string done_by_flash(const std::vector<Step>& steps) {
  std::vector<std::string> out;
  for (std::size_t i = 0; i < steps.size(); ++i) {
    if (!by_itself(steps[i])) continue;
    StepGroup group{i, i};
    while (i + 1 < steps.size() && by_itself(steps[i + 1]))
      group.last = ++i;
    out.push_back(group.number());
  }
  return fmt::format("{}", fmt::join(out, ", "));
}

/// What `flash` does of it: of a phone with a download mode nothing goes over a wire.
std::string about_flash(const std::vector<Step>& steps) {
  const bool download = std::ranges::any_of(steps, [](const Step& step) {
    const auto* mode = step.get<act::EnterMode>();
    return mode != nullptr && mode->mode == Mode::Download;
  });
  return download ? "wexlo flash leads through the steps: all of them are done by hand."
                  : fmt::format("wexlo flash does steps {} by itself, and asks for the others.",
                                done_by_flash(steps));
}

}  // namespace

std::string plan_for_people(const Plan& plan) {
  std::string out = fmt::format("Plan for {}, about {}\nbuild {}\n", printable(plan.device),
                                usual_time(whole_time(plan.steps)), printable(plan.build));
  if (plan.needs != Needs::Unknown)
    out += filled(fmt::format("needs: {}. {}",
                              plan.needs == Needs::OwnKey ? "a phone that trusts the kit's key"
                                                          : "an unlocked bootloader",
                              plan.needs_why),
                  kWidth);
  out += "Files are in this folder. plan.toml has every detail.\n";
  out += filled(about_flash(plan.steps), kWidth);
  append_first(out, plan.first);
  Page page(plan);
  out += "\n" + page.way(plan.steps, "");
  out += fmt::format("\nThe way back, about {}\n", usual_time(whole_time(plan.back)));
  append_first(out, plan.back_first);
  if (!plan.back_first.empty()) out += "\n";
  out += page.way(plan.back, "B");
  // Names and notes come from packages and sheets; a terminal shows this file as it is.
  return printable_lines(out);
}

}  // namespace wexlo
