#include "flash/player.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/contains.hpp"
#include "base/word_table.hpp"
#include "kit/facts/demands.hpp"
#include "kit/plan/plan_text.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

/// In the order of the enum.
constexpr std::array<std::string_view, 7> kOutcomes{"done",    "accepted", "confirmed", "unknown",
                                                    "by-hand", "skipped",  "failed"};

class Player {
 public:
  Player(const std::vector<Step>& steps, Phone& phone, Hands& hands, const OpenKitFile& open,
         const PlayOptions& options)
      : steps_(steps),
        phone_(phone),
        hands_(hands),
        open_(open),
        options_(options),
        started_from_(options.started_from) {}

  Played run() {
    const auto first = first_step();
    if (!first) return {{}, first.error()};
    for (std::size_t i = *first; i < steps_.size(); ++i)
      if (!one(steps_[i], i)) break;
    return std::move(out_);
  }

 private:
  using Performed = Result<StepOutcome>;

  /// Whoever goes on in the middle needs the mode that the steps before have led to.
  Result<std::size_t> first_step() {
    if (options_.from.empty()) return 0;
    const auto at = std::ranges::find(steps_, options_.from, &Step::id);
    if (at == steps_.end())
      return fail({.code = ErrorCode::Usage,
                   .message = "the plan has no such step",
                   .found = options_.from,
                   .hint = "plan.txt and plan.toml name the steps."});
    const auto first = static_cast<std::size_t>(at - steps_.begin());
    for (std::size_t i = first; i-- > 0;)
      if (steps_[i].is<act::EnterMode>()) {
        if (!one(steps_[i], i)) return fail(*out_.error);
        break;
      }
    return first;
  }

  /// @return whether the next one follows
  bool one(const Step& step, std::size_t index) {
    if (options_.watch != nullptr) {
      if (auto going = options_.watch->may_go_on(index); !going) {
        out_.error = std::move(going).error();
        return false;
      }
      const std::string why = options_.watch->leaves_out(step);
      if (!why.empty()) return end(step, {step.id, StepOutcome::Skipped, why});
      options_.watch->begins(step, index);
    }
    detail_.clear();
    auto outcome = std::visit([&](const auto& act) { return perform(step, act); }, step.act);
    if (outcome) return end(step, {step.id, *outcome, std::move(detail_)});
    Error& why = outcome.error();
    const bool lost = why.code == ErrorCode::ReplyLost;
    out_.error = why;
    // The phone's own words are worth most.
    const std::string said = why.found.empty() || why.code == ErrorCode::DoesNotFit
                                 ? why.message
                                 : fmt::format("{}: {}", why.message, why.found);
    return end(step, {step.id, lost ? StepOutcome::Unknown : StepOutcome::Failed, said});
  }

  bool end(const Step& step, PlayedStep played) {
    if (options_.watch != nullptr) options_.watch->ended(step, played);
    out_.steps.push_back(std::move(played));
    return !out_.error;
  }

  static Performed done(Status status) {
    if (!status) return fail(std::move(status).error());
    return StepOutcome::Done;
  }
  Performed by_hand(Result<std::string> seen) {
    if (!seen) return fail(std::move(seen).error());
    detail_ = std::move(*seen);
    return StepOutcome::ByHand;
  }

  Performed perform(const Step& step, const act::Expect& want) {
    WEXLO_TRY(const auto found, phone_.variable(want.variable));
    if (!found) {
      detail_ = fmt::format("the phone does not know {}", want.variable);
      return StepOutcome::Unknown;
    }
    detail_ = fmt::format("{} is {}", want.variable, *found);
    if (expectation_holds(want, *found)) return StepOutcome::Confirmed;
    if (options_.accepted.contains(step.id)) {
      detail_ += fmt::format(", not as expected ({}): accepted", expectation(want));
      return StepOutcome::Skipped;
    }
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = fmt::format("the phone is not as the plan expects it ({})", step.id),
                 .expected = expectation(want),
                 .found = *found,
                 .hint = step.about});
  }

  /// By a command where there is one, else by hand.
  Status bring(const Step& step, PhoneMode mode) {
    auto entered = mode == PhoneMode::System ? phone_.restart() : phone_.enter(mode);
    if (entered || entered.error().code != ErrorCode::Unsupported) return entered;
    WEXLO_CHECK(hands_.bring(step, mode, phone_));
    return phone_.brought(mode);
  }

  Performed perform(const Step& step, const act::EnterMode& mode) {
    WEXLO_CHECK(bring(step, phone_mode(mode.mode)));
    if (mode.mode == Mode::Bootloader || mode.mode == Mode::Userspace) WEXLO_CHECK(find_slot());
    return StepOutcome::Done;
  }

  Performed perform(const Step&, const act::Write& write) {
    WEXLO_TRY(const std::string partition, with_slot(write.partition, write.slot));
    WEXLO_TRY(const PhoneFile file, file_of_kit(write.file));
    auto written = phone_.write(partition, file);
    if (!written && written.error().code != ErrorCode::ReplyLost)
      return fail(std::move(written).error());
    auto held = phone_.holds(partition, file);
    // What the phone said itself is enough where it gives nothing back; a lost answer is not.
    if (!held && written && held.error().code == ErrorCode::Interrupted)
      return fail(std::move(held).error());
    const bool known = held && held->has_value();
    if (known && **held) {
      detail_ = fmt::format("{} was read back and is the same", partition);
      return StepOutcome::Confirmed;
    }
    if (!written) return fail(std::move(written).error());
    if (!known) return StepOutcome::Accepted;
    return fail({.code = ErrorCode::PhoneRefused,
                 .message = fmt::format("{} does not hold what was written to it", partition),
                 .file = file.name,
                 .hint = "Write it again. If it happens once more, the cable, the port or the "
                         "phone's storage is at fault."});
  }

  bool is_locked() {
    const auto unlocked = phone_.variable("unlocked");
    return unlocked && *unlocked && **unlocked == "no";
  }

  Performed perform(const Step&, const act::Start& start) {
    WEXLO_TRY(const PhoneFile file, file_of_kit(start.file));
    auto started = phone_.start(file);
    // It is a trial: a loader that starts nothing without writing it says so, and no harm is done.
    if (!started && started.error().code == ErrorCode::PhoneRefused && !is_locked()) {
      detail_ = fmt::format("not tried: {}", started.error().message);
      return StepOutcome::Skipped;
    }
    return done(std::move(started));
  }

  Performed perform(const Step&, const act::Drop& drop) {
    return done(phone_.drop_logical(drop.partition));
  }
  Performed perform(const Step&, const act::Create& create) {
    return done(phone_.create_logical(create.partition, create.size));
  }
  Performed perform(const Step&, const act::Resize& resize) {
    return done(phone_.resize_logical(resize.partition, resize.size));
  }
  Performed perform(const Step&, const act::ChooseSlot& choose) {
    WEXLO_TRY(const std::string letter, letter_of(choose.slot));
    return done(phone_.choose_slot(letter));
  }
  Performed perform(const Step&, const act::CancelUpdate&) { return done(phone_.cancel_update()); }
  Performed perform(const Step&, const act::Wipe&) { return done(phone_.erase("userdata")); }
  Performed perform(const Step& step, const act::Restart&) {
    return done(bring(step, PhoneMode::System));
  }

  Performed perform(const Step& step, const act::Install& install) {
    if (phone_.mode() != PhoneMode::Recovery)
      return fail({.code = ErrorCode::PhoneRefused,
                   .message = "a package is installed from recovery, which does not run"});
    return by_hand(hands_.install(step, install, phone_));
  }
  Performed perform(const Step& step, const act::HandOver& hand_over) {
    return by_hand(hands_.hand_over(step, hand_over, phone_));
  }
  Performed perform(const Step& step, const act::ByHand& task) {
    return by_hand(hands_.by_hand(step, task, phone_));
  }

  /// What the phone starts from as the steps begin: roles keep their meaning from there on.
  Status find_slot() {
    if (!started_from_.empty()) return {};
    WEXLO_TRY(const auto slot, phone_.variable("current-slot"));
    if (slot) {
      started_from_ = *slot;
      // Some bootloaders answer with the suffix.
      if (started_from_.starts_with('_')) started_from_.erase(0, 1);
    } else {
      for (const Step& step : steps_)
        if (const auto* want = step.get<act::Expect>();
            want != nullptr && want->variable == "current-slot")
          started_from_ = want->value.substr(0, want->value.find('|'));
    }
    if (options_.watch != nullptr && !started_from_.empty())
      options_.watch->sees_slot(started_from_);
    return {};
  }

  Result<std::string> letter_of(SlotRole slot) const {
    if (started_from_ != "a" && started_from_ != "b")
      return fail({.code = ErrorCode::DoesNotFit,
                   .message = "which slot the phone starts from is not known",
                   .hint = "Make the kit with a sheet that says so: current_slot in [state]."});
    const bool current = slot == SlotRole::Current;
    return std::string((started_from_ == "a") == current ? "a" : "b");
  }

  Result<std::string> with_slot(const std::string& partition, SlotRole slot) const {
    if (slot == SlotRole::None) return partition;
    WEXLO_TRY(const std::string letter, letter_of(slot));
    return partition + "_" + letter;
  }

  Result<PhoneFile> file_of_kit(const KitFile& file) const {
    PhoneFile out{.name = file.file, .size = file.size, .sha256 = file.sha256, .bytes = nullptr};
    WEXLO_TRY(out.bytes, open_(file.file));
    if (out.bytes == nullptr)
      return fail({.code = ErrorCode::NotFound,
                   .message = "a file that the plan needs is not in the kit",
                   .file = file.file,
                   .hint = "wexlo check KIT tells whether the kit is whole."});
    return out;
  }

  const std::vector<Step>& steps_;
  Phone& phone_;
  Hands& hands_;
  const OpenKitFile& open_;
  const PlayOptions& options_;
  std::string started_from_, detail_;
  Played out_;
};

}  // namespace

std::string_view outcome_word(StepOutcome outcome) {
  return kOutcomes[static_cast<std::size_t>(outcome)];
}

std::optional<StepOutcome> outcome_of(std::string_view word) {
  return of_word<StepOutcome>(kOutcomes, word);
}

bool expectation_holds(const act::Expect& want, const std::string& found) {
  if (!want.at_least && !want.at_most) return contains(alternatives(want.value), found);
  // Sizes are told in hexadecimal, with or without 0x; other numbers as they are.
  const bool size = want.variable.starts_with("partition-size:");
  const auto number = size ? parse_hex(found) : parse_number(found);
  if (!number) return false;
  return (!want.at_least || *number >= *want.at_least) &&
         (!want.at_most || *number <= *want.at_most);
}

PhoneMode phone_mode(Mode mode) {
  switch (mode) {
    case Mode::Bootloader: return PhoneMode::Bootloader;
    case Mode::Userspace: return PhoneMode::Userspace;
    case Mode::Download: return PhoneMode::Download;
    case Mode::Recovery: return PhoneMode::Recovery;
  }
  return PhoneMode::Bootloader;
}

Played play(const std::vector<Step>& steps, Phone& phone, Hands& hands, const OpenKitFile& open,
            const PlayOptions& options) {
  return Player(steps, phone, hands, open, options).run();
}

}  // namespace wexlo
