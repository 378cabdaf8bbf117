#include "job/flash.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/contains.hpp"
#include "flash/preflight.hpp"
#include "kit/folder/kit_folder.hpp"
#include "kit/plan/plan_text.hpp"
#include "phone/by_hand_phone.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// Keeps the log, asks the desk, and knows which steps are left out.
class FlashWatch final : public PlayWatch {
 public:
  FlashWatch(FlashDesk& desk, const Context& context) : desk_(desk), context_(context) {}

  FlashLog* log = nullptr;  ///< nullptr: a dry run has none
  bool dry_run = false;
  std::map<std::string, std::string> left_out;  ///< why, by id
  std::string slot;
  std::size_t at = 0;  ///< index of the step that is played, or would be
  std::optional<Error> trouble;

  Status may_go_on(std::size_t index) override {
    at = index;
    if (trouble) return fail(*trouble);
    return check_stop(context_);
  }
  std::string leaves_out(const Step& step) override {
    if (dry_run && !step.is<act::Expect>()) return "dry run: " + step_title(step);
    const auto found = left_out.find(step.id);
    return found == left_out.end() ? "" : found->second;
  }
  void begins(const Step& step, std::size_t index) override {
    if (log != nullptr && !step.is<act::Expect>()) keep(log->step_begins(step));
    desk_.begins(step, index);
  }
  void ended(const Step& step, const PlayedStep& played) override {
    if (log != nullptr) keep(log->step(played));
    desk_.ended(step, played);
  }
  void phone_says(const std::string& line) {
    if (log != nullptr) keep(log->phone_says(line));
    desk_.phone_says(line);
  }
  void sees_slot(const std::string& letter) override {
    slot = letter;
    if (log != nullptr) keep(log->slot(letter));
  }

 private:
  void keep(Status done) {
    if (!done && !trouble) trouble = std::move(done).error();
  }
  FlashDesk& desk_;
  const Context& context_;
};

class FlashJob {
 public:
  FlashJob(const Kit& kit, const FlashOptions& options, FlashDesk& desk, const Context& context)
      : kit_(kit), options_(options), desk_(desk), context_(context), watch_(desk, context) {}

  Result<Flashed> run() {
    WEXLO_CHECK(read_kit());
    WEXLO_CHECK(read_log());
    WEXLO_CHECK(reach());
    WEXLO_CHECK(same_phone());
    WEXLO_CHECK(look());
    WEXLO_CHECK(consent());
    return play_it();
  }

 private:
  [[nodiscard]] bool back() const { return options_.direction == Direction::Back; }
  [[nodiscard]] const std::vector<Step>& steps() const { return back() ? plan_.back : plan_.steps; }
  [[nodiscard]] fs::path log_file() const {
    return options_.log.empty() ? kit_.folder() / kFlashLog : options_.log;
  }

  Status read_kit() {
    WEXLO_TRY(const KitState state, kit_.verify(context_));
    // What became of the record says nothing of what is written.
    for (const Finding& one : state.findings)
      if (one.level == Level::Problem && one.id.code == FindingCode::KitFile)
        return fail(
            {.code = ErrorCode::DoesNotFit,
             .message = "the kit is not whole: nothing was written",
             .file = kit_.folder().string(),
             .found = fmt::format("{}: {}", one.where,
                                  one.message.substr(0, one.message.find_last_not_of('.') + 1)),
             .hint = "Make the kit anew. wexlo check KIT tells all of it."});
    out_.findings = state.findings;
    WEXLO_TRY(plan_, kit_.plan());
    if (!options_.from.empty() && !contains(steps(), options_.from, &Step::id))
      return fail({.code = ErrorCode::Usage,
                   .message = "the plan has no such step",
                   .found = options_.from,
                   .hint = "plan.toml names the steps by their id."});
    return {};
  }

  Status read_log() {
    WEXLO_TRY(auto runs, read_flash_log(log_file()));
    runs_ = runs_of_plan(std::move(runs), kit_.manifest().plan.sha256);
    made_ = changes_made(runs_, plan_);
    if (back()) leave_out_of_back();
    return {};
  }

  [[nodiscard]] bool was_played(Direction direction) const {
    return contains(runs_, direction, &LoggedRun::direction);
  }

  [[nodiscard]] bool started() const {
    return std::ranges::any_of(runs_, [&](const LoggedRun& run) {
      return run.direction == Direction::Forward &&
             std::ranges::any_of(run.steps, [&](const PlayedStep& one) {
               const auto at = std::ranges::find(plan_.steps, one.id, &Step::id);
               return at != plan_.steps.end() && at->is<act::Restart>() &&
                      one.outcome != StepOutcome::Skipped;
             });
    });
  }

  /// What was not done need not be undone. Without a log nobody knows: all of it is played.
  void leave_out_of_back() {
    if (!was_played(Direction::Forward)) return;
    std::set<std::string> undone_by;  // ids of steps back that some step names
    std::set<std::string> needed;
    for (const Step& step : plan_.steps) {
      if (step.undo.empty()) continue;
      undone_by.insert(step.undo);
      if (made_.contains(step.id)) needed.insert(step.undo);
    }
    std::set<std::string> not_made;  // partitions that are there still
    for (const Step& step : plan_.back) {
      std::string id = step.id;
      if (const auto* write = step.get<act::Write>(); write != nullptr && write->piece > 1)
        id = id.substr(0, id.rfind('-'));
      const std::string partition(partition_of(step.act));
      const bool fills = step.id.starts_with("fill-") && not_made.contains(partition);
      const bool wipes = step.is<act::Wipe>() && !started() && !made_.contains("wipe");
      if ((undone_by.contains(id) && !needed.contains(id)) || fills || wipes) {
        watch_.left_out[step.id] =
            wipes ? "the other system was never started" : "nothing was changed there";
        if (step.is<act::Create>()) not_made.insert(partition);
      }
    }
  }

  Status reach() {
    if (options_.addresses.empty()) {
      if (kit_.manifest().way != Way::Download)
        return fail({.code = ErrorCode::Usage,
                     .message = "flash needs the phone's address",
                     .hint = "--phone fastboot+usb:// or fastboot+tcp://HOST. wexlo phones shows "
                             "which phones answer."});
      phone_ = std::make_unique<ByHandPhone>();
      return {};
    }
    auto wire = std::make_unique<FastbootPhone>(options_.addresses, context_, options_.waits);
    wire->on_line = [this](const std::string& line) { watch_.phone_says(line); };
    WEXLO_CHECK(wire->attach());
    wire_ = wire.get();
    phone_ = std::move(wire);
    out_.serial = wire_->serial();
    WEXLO_TRY(const auto product, phone_->variable("product"));
    out_.product = product.value_or("");
    return {};
  }

  /// Whoever goes on, or back, does it on the phone that was begun with.
  Status same_phone() const {
    const bool goes_on = back() || !options_.from.empty();
    if (!goes_on || runs_.empty() || out_.serial.empty() || runs_.back().serial.empty()) return {};
    if (runs_.back().serial == out_.serial) return {};
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = "this is not the phone that the job was begun with",
                 .file = log_file().string(),
                 .expected = "serial number " + runs_.back().serial,
                 .found = out_.serial,
                 .hint = "Connect the phone that the log tells of."});
  }

  [[nodiscard]] std::vector<Step> to_play() const {
    const auto first = options_.from.empty() ? steps().begin()
                                             : std::ranges::find(steps(), options_.from, &Step::id);
    std::vector<Step> out;
    std::copy_if(first, steps().end(), std::back_inserter(out),
                 [&](const Step& one) { return !watch_.left_out.contains(one.id); });
    return out;
  }

  Status look() {
    if (wire_ == nullptr) return {};
    WEXLO_TRY(auto found,
              look_before({.steps = to_play(), .phone = *phone_, .accepted = options_.accepted}));
    std::vector<std::string> problems, accepts;
    for (const Finding& one : found)
      if (one.level == Level::Problem) {
        problems.push_back(one.message);
        accepts.push_back("--accept " + one.where);
      }
    if (!problems.empty())
      return fail(
          {.code = ErrorCode::DoesNotFit,
           .message = "the phone is not as the plan expects it: nothing was written",
           .file = address_text(wire_->address()),
           .found = fmt::format("{}", fmt::join(problems, "; ")),
           .hint = fmt::format("If you know better, go on with {}.", fmt::join(accepts, " "))});
    std::ranges::move(found, std::back_inserter(out_.findings));
    return {};
  }

  Status consent() {
    const std::vector<Step> play = to_play();
    std::vector<const Step*> losing;
    for (const Step& step : play)
      if (step.risk.data_loss) losing.push_back(&step);
    if (losing.empty() || options_.may_erase || options_.dry_run || desk_.agrees(losing)) return {};
    WEXLO_CHECK(check_stop(context_));
    return fail({.code = ErrorCode::NeedsPerson,
                 .message = "the user's data is lost on the way: nothing was written",
                 .found = step_title(*losing.front()),
                 .hint = "--yes-erase says that the owner agrees and has a copy."});
  }

  [[nodiscard]] std::string slot_from_log() const {
    if (options_.from.empty()) return {};
    for (auto run = runs_.rbegin(); run != runs_.rend(); ++run)
      if (run->direction == options_.direction && !run->slot.empty()) return run->slot;
    return {};
  }

  Result<Flashed> play_it() {
    std::optional<FlashLog> log;
    if (!options_.dry_run) {
      WEXLO_TRY(FlashLog opened, FlashLog::open(log_file(), options_.clock));
      log.emplace(std::move(opened));
      WEXLO_CHECK(log->begin({.direction = options_.direction,
                              .time = {},
                              .address = wire_ == nullptr ? "" : address_text(wire_->address()),
                              .serial = out_.serial,
                              .product = out_.product,
                              .slot = {},
                              .plan_sha256 = kit_.manifest().plan.sha256,
                              .steps = {}}));
      watch_.log = &*log;
    }
    watch_.dry_run = options_.dry_run;
    watch_.slot = slot_from_log();
    if (log && !watch_.slot.empty()) WEXLO_CHECK(log->slot(watch_.slot));
    Played played =
        play(steps(), *phone_, desk_, [this](const std::string& name) { return kit_.file(name); },
             {.from = options_.from,
              .accepted = options_.accepted,
              .started_from = watch_.slot,
              .watch = &watch_});
    return finish(std::move(played), log ? &*log : nullptr);
  }

  Result<Flashed> finish(Played played, FlashLog* log) {
    out_.steps = std::move(played.steps);
    out_.error = std::move(played.error);
    out_.done = !out_.error;
    out_.slot = watch_.slot;
    if (out_.error) {
      out_.stopped_at = steps()[watch_.at].id;
      // An answer that was not waited for any more: the person stopped it, not the phone.
      if (out_.error->code == ErrorCode::ReplyLost && !check_stop(context_))
        out_.error->code = ErrorCode::Interrupted;
    }
    LoggedRun run{.direction = options_.direction, .steps = out_.steps};
    if (!options_.dry_run) runs_.push_back(std::move(run));
    const auto made = changes_made(runs_, plan_);
    out_.changed.assign(made.begin(), made.end());
    out_.takes_back = !made.empty();
    // The log's own end is told as far as it can be written.
    if (log != nullptr && !watch_.trouble)
      WEXLO_CHECK(log->end(out_.done, out_.error ? out_.error->message : ""));
    return std::move(out_);
  }

  const Kit& kit_;
  const FlashOptions& options_;
  FlashDesk& desk_;
  const Context& context_;
  FlashWatch watch_;
  Plan plan_;
  std::vector<LoggedRun> runs_;
  std::set<std::string> made_;
  std::unique_ptr<Phone> phone_;
  FastbootPhone* wire_ = nullptr;  ///< of phone_; nullptr: it is reached by hand alone
  Flashed out_;
};

}  // namespace

Result<Flashed> flash(const Kit& kit, const FlashOptions& options, FlashDesk& desk,
                      const Context& context) {
  return FlashJob(kit, options, desk, context).run();
}

}  // namespace wexlo
