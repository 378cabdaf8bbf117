#include "job/flash.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <poll.h>
#include <unistd.h>

#include <array>
#include <cerrno>

#include "base/contains.hpp"
#include "commands.hpp"
#include "kit/plan/plan_text.hpp"
#include "options.hpp"
#include "play_text.hpp"
#include "reply.hpp"
#include "report/rehearsal_page.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct FlashArguments {
  std::string kit, from, log;
  std::vector<std::string> phones, accept;
  bool yes_erase = false, hands_done = false, back = false, dry_run = false;
};

/// The technician: at a terminal, or by the options that were given.
class Desk final : public FlashDesk {
 public:
  Desk(const FlashArguments& options, const Session& session, std::size_t steps)
      : options_(options),
        session_(session),
        steps_(steps),
        terminal_(isatty(STDIN_FILENO) != 0 && !session.globals.json) {}

  bool agrees(const std::vector<const Step*>& losing) override {
    if (!terminal_) return false;
    say("The user's data will be lost:\n");
    for (const Step* one : losing)
      say(fmt::format("  {}: {}\n", step_title(*one), one->about));
    say("Type yes if the owner agrees and has a copy of what matters: ");
    return line().value_or("") == "yes";
  }

  void begins(const Step& step, std::size_t index) override {
    if (!shows()) return;
    const auto* want = step.get<act::Expect>();
    say(fmt::format("{:>3}/{} {}{}", index + 1, steps_, want == nullptr ? "" : "Check ",
                    want == nullptr ? step_title(step) : expectation(*want)));
    // What was found follows on the same line.
    if (want == nullptr) say("\n");
  }
  void ended(const Step& step, const PlayedStep& played) override {
    if (session_.before_output) session_.before_output();
    if (!shows() || played.outcome == StepOutcome::Skipped) return;
    say(fmt::format("{}{}{}\n", step.is<act::Expect>() ? ": " : "        ",
                    outcome_word(played.outcome),
                    played.detail.empty() ? "" : ", " + printable(played.detail)));
  }

  void phone_says(const std::string& line) override {
    if (session_.before_output) session_.before_output();
    if (shows()) say(fmt::format("        the phone: {}\n", printable(line)));
  }

  Result<std::string> by_hand(const Step& step, const act::ByHand& task, Phone&) override {
    std::string more;
    if (!task.file.file.empty()) more = fmt::format("  File: {}\n", in_kit(task.file.file));
    return asked(step, more);
  }
  Result<std::string> install(const Step& step, const act::Install& what, Phone&) override {
    return asked(step, fmt::format("  Package: {}\n", in_kit(what.package.file)));
  }
  Result<std::string> hand_over(const Step& step, const act::HandOver& what, Phone&) override {
    return asked(step,
                 fmt::format("  File: {}\n  Field: {}\n  Settings: {}\n",
                             what.file.file.empty() ? "the stock package" : in_kit(what.file.file),
                             what.field, fmt::join(what.settings, ", ")));
  }
  Status bring(const Step& step, PhoneMode, Phone&) override {
    WEXLO_CHECK(asked(step, {}));
    return {};
  }

 private:
  [[nodiscard]] bool shows() const {
    return !session_.globals.quiet && !session_.globals.json && isatty(STDERR_FILENO) != 0;
  }
  void say(const std::string& text) const {
    tell(session_, session_.err, text);
    session_.err.flush();
  }
  [[nodiscard]] std::string in_kit(const std::string& name) const {
    std::error_code ignored;
    const std::filesystem::path file = std::filesystem::path(options_.kit) / name;
    return std::filesystem::exists(file, ignored) ? file.string() : name;
  }
  /// What is typed up to Enter. A stop is heard while nobody types. Errors: Interrupted,
  /// NeedsPerson (the terminal is gone).
  Result<std::string> line() {
    constexpr int kWait = 100;  // milliseconds
    for (;;) {
      if (const auto end = typed_.find('\n'); end != std::string::npos) {
        std::string out = typed_.substr(0, end);
        typed_.erase(0, end + 1);
        return out;
      }
      WEXLO_CHECK(check_stop(session_.context));
      pollfd keys{STDIN_FILENO, POLLIN, 0};
      if (::poll(&keys, 1, kWait) <= 0) continue;
      std::array<char, 256> piece{};
      const ssize_t got = ::read(STDIN_FILENO, piece.data(), piece.size());
      if (got < 0 && errno == EINTR) continue;
      if (got <= 0)
        return fail({.code = ErrorCode::NeedsPerson,
                     .message = "the terminal ended while a question was open",
                     .expected = "Enter, or what was seen",
                     .found = "the end of the input",
                     .hint = "Run it at a terminal; or do the step, and go on with --hands-done."});
      typed_.append(piece.data(), static_cast<std::size_t>(got));
    }
  }

  /// Enter, or what was seen. Without a terminal the options have to say that it was done.
  Result<std::string> asked(const Step& step, const std::string& more) {
    if (!terminal_) {
      if (options_.hands_done) return std::string("taken as done: --hands-done");
      return fail({.code = ErrorCode::NeedsPerson,
                   .message = fmt::format("step {} is done by hand", step.id),
                   .expected = step.about.substr(0, step.about.find_last_not_of('.') + 1),
                   .hint = "Run it at a terminal; or do it, and go on with --hands-done."});
    }
    say(fmt::format("  {}\n{}", step.about, more));
    for (const std::string& note : step.notes)
      say(fmt::format("  On this phone: {}\n", note));
    if (!step.screen.empty()) say(fmt::format("  You see: {}\n", step.screen));
    say(fmt::format("  Done when {}. Enter, or type what you see (stop ends here): ",
                    step.success));
    WEXLO_TRY(std::string seen, line());
    if (seen == "stop")
      return fail({.code = ErrorCode::NeedsPerson,
                   .message = fmt::format("stopped at step {}, which is done by hand", step.id)});
    return seen;
  }

  const FlashArguments& options_;
  const Session& session_;
  std::size_t steps_;
  bool terminal_;
  std::string typed_;  ///< read, and not asked for yet
};

std::string command_line(const FlashArguments& options) {
  std::string out = "wexlo flash " + shell_word(options.kit);
  for (const std::string& one : options.phones)
    out += " --phone " + shell_word(one);
  if (!options.log.empty()) out += " --log " + shell_word(options.log);
  for (const std::string& one : options.accept)
    out += " --accept " + shell_word(one);
  if (options.yes_erase) out += " --yes-erase";
  if (options.hands_done) out += " --hands-done";
  if (options.dry_run) out += " --dry-run";
  if (options.back) out += " --back";
  if (!options.from.empty()) out += " --from " + shell_word(options.from);
  return out;
}

struct NextCommands {
  std::string go_on, back;  ///< empty: there is none
};

NextCommands next_of(const FlashArguments& options, const Flashed& done) {
  NextCommands out;
  if (done.done) return out;
  if (!done.stopped_at.empty()) {
    FlashArguments on = options;
    on.from = done.stopped_at;
    out.go_on = command_line(on);
  }
  if (!options.back && done.takes_back) {
    FlashArguments back = options;
    back.back = true;
    back.from.clear();
    // What is accepted, and what may be lost, is asked anew for the way back.
    back.accept.clear();
    back.yes_erase = false;
    out.back = command_line(back);
  }
  return out;
}

/// What a write has left; empty: nothing.
std::string left_by(const PlayedStep& write) {
  switch (write.outcome) {
    case StepOutcome::Skipped: return {};
    case StepOutcome::Unknown: return "unknown: it may be written, in part, or not at all";
    case StepOutcome::Failed: return "failed: " + printable(write.detail);
    default: return std::string(outcome_word(write.outcome));
  }
}

/// What a phone that stopped in the middle has now. @param steps  of the plan, or of its way back
std::string left_text(const std::vector<Step>& steps, const Flashed& done) {
  std::string out;
  for (const Step& step : steps) {
    if (!step.is<act::Write>()) continue;
    const auto at = std::ranges::find(done.steps, step.id, &PlayedStep::id);
    std::string state;
    if (at != done.steps.end())
      state = left_by(*at);
    else if (contains(done.changed, step.id))
      state = "written in an earlier run";
    if (!state.empty()) out += fmt::format("  {:<28}{}\n", step_title(step), state);
  }
  return out;
}

Reply reply_of(const FlashArguments& options, const Session& session, const Plan& plan,
               Flashed done) {
  const Paint& paint = session.paint;
  const auto& steps = options.back ? plan.back : plan.steps;
  const NextCommands next = next_of(options, done);
  Reply reply;
  reply.findings = done.findings;
  reply.result = {{"state", done.done ? "done" : "stopped"},
                  {"direction", options.back ? "back" : "forward"},
                  {"dry_run", options.dry_run},
                  {"serial", done.serial.empty() ? Json() : Json(done.serial)},
                  {"product", done.product.empty() ? Json() : Json(done.product)},
                  {"slot", done.slot.empty() ? Json() : Json(done.slot)},
                  {"steps", played_json(done.steps)},
                  {"next", next.go_on.empty() ? Json() : Json(next.go_on)},
                  {"back", next.back.empty() ? Json() : Json(next.back)}};
  reply.text = paint.heading(options.back ? "The way back" : "The plan") + "\n" +
               played_text(paint, steps, done.steps, session.globals.verbose);
  const auto command = [&](std::string_view what, const std::string& line) {
    if (!line.empty()) reply.ending += fmt::format("  {}\n      {}\n", what, paint.good(line));
  };
  if (done.done) {
    reply.ending = options.dry_run ? "\n  dry run: nothing was written\n"
                                   : fmt::format("\n  {}: all {} steps\n", paint.good("done"),
                                                 done.steps.size());
    return reply;
  }
  reply.ending = "\n" + paint.heading("What the phone has now") + "\n";
  const std::string left = left_text(steps, done);
  reply.ending += left.empty() ? "  nothing was written\n" : left;
  reply.ending += "\n" + paint.heading("What comes next") + "\n";
  command("go on, once the cause is gone:", next.go_on);
  command("or back from here:", next.back);
  reply.reasons = reply.ending;
  reply.refusal = std::move(done.error);
  return reply;
}

Result<Reply> run_flash(const FlashArguments& options, const Session& session) {
  FlashOptions wish{.addresses = {},
                    .direction = options.back ? Direction::Back : Direction::Forward,
                    .from = options.from,
                    .accepted = {options.accept.begin(), options.accept.end()},
                    .may_erase = options.yes_erase,
                    .dry_run = options.dry_run,
                    .log = options.log};
  WEXLO_TRY(wish.addresses, parse_addresses(options.phones));
  WEXLO_TRY(const Kit kit, Kit::open(options.kit));
  WEXLO_TRY(const Plan plan, kit.plan());
  Desk desk(options, session, (options.back ? plan.back : plan.steps).size());
  WEXLO_TRY(Flashed done, flash(kit, wish, desk, session.context));
  return reply_of(options, session, plan, std::move(done));
}

}  // namespace

void add_flash(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<FlashArguments>();
  Command(commands, "flash")
      .operand("KIT", options->kit, "The kit")
      .option("--phone", "ADDRESS", options->phones,
              "Where the phone answers: fastboot+usb://SERIAL, fastboot+tcp://HOST:PORT or "
              "fastboot+udp://HOST:PORT; several are tried in order")
      .gathers()
      .flag("--yes-erase", options->yes_erase,
            "The owner agrees that the user's data is lost, and has a copy")
      .flag("--hands-done", options->hands_done,
            "What is done by hand is done, or will be in time: do not ask")
      .option("--from", "STEP", options->from, "Begin with this step of the plan, by its id")
      .flag("--back", options->back,
            "Play the way back; by the log, only what was changed is undone")
      .option("--accept", "STEP", options->accept,
              "Go on though this expectation does not hold; battery for a low charge")
      .flag("--dry-run", options->dry_run, "Ask the phone, and write nothing")
      .option("--log", "FILE", options->log, "Another log than flash-log.jsonl in the kit")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "flash", run_flash(*options, session));
      });
}

}  // namespace wexlo::cli
