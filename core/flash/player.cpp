#include "flash/player.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/contains.hpp"
#include "kit/facts/demands.hpp"
#include "kit/plan/plan_text.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

PhoneMode phone_mode(Mode mode) {
  switch (mode) {
    case Mode::Bootloader: return PhoneMode::Bootloader;
    case Mode::Userspace: return PhoneMode::Userspace;
    case Mode::Download: return PhoneMode::Download;
    case Mode::Recovery: return PhoneMode::Recovery;
  }
  return PhoneMode::Bootloader;
}

bool holds(const act::Expect& want, const std::string& found) {
  if (!want.at_least && !want.at_most) return contains(alternatives(want.value), found);
  const auto number = parse_number(found);
  if (!number) return false;
  return (!want.at_least || *number >= *want.at_least) &&
         (!want.at_most || *number <= *want.at_most);
}

class Player {
 public:
  Player(const std::vector<Step>& steps, Phone& phone, Hands& hands, const OpenKitFile& open)
      : steps_(steps), phone_(phone), hands_(hands), open_(open) {}

  Played run() {
    Played out;
    for (const Step& step : steps_) {
      PlayedStep played{.id = step.id};
      auto outcome = std::visit([&](const auto& act) { return perform(step, act); }, step.act);
      if (outcome) {
        played.outcome = *outcome;
        played.detail = std::move(detail_);
        out.steps.push_back(std::move(played));
        detail_.clear();
        continue;
      }
      played.outcome = StepOutcome::Failed;
      played.detail = outcome.error().message;
      out.steps.push_back(std::move(played));
      out.error = std::move(outcome).error();
      break;
    }
    return out;
  }

 private:
  using Performed = Result<StepOutcome>;

  static Performed done(Status status) {
    if (!status) return fail(std::move(status).error());
    return StepOutcome::Done;
  }
  static Performed by_hand(Status status) {
    if (!status) return fail(std::move(status).error());
    return StepOutcome::ByHand;
  }

  Performed perform(const Step& step, const act::Expect& want) {
    WEXLO_TRY(const auto found, phone_.variable(want.variable));
    if (!found) {
      detail_ = fmt::format("the phone does not know {}", want.variable);
      return StepOutcome::Unknown;
    }
    detail_ = fmt::format("{} is {}", want.variable, *found);
    if (holds(want, *found)) return StepOutcome::Confirmed;
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = fmt::format("the phone is not as the plan expects it ({})", step.id),
                 .expected = expectation(want),
                 .found = *found,
                 .hint = step.about});
  }

  Performed perform(const Step&, const act::EnterMode& mode) {
    WEXLO_CHECK(phone_.enter(phone_mode(mode.mode)));
    if (mode.mode == Mode::Bootloader || mode.mode == Mode::Userspace) WEXLO_CHECK(find_slot());
    return StepOutcome::Done;
  }

  Performed perform(const Step&, const act::Write& write) {
    WEXLO_TRY(const std::string partition, with_slot(write.partition, write.slot));
    WEXLO_TRY(PhoneFile file, file_of_kit(write.file));
    file.piece = write.piece;
    return done(phone_.write(partition, file));
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
  Performed perform(const Step&, const act::Restart&) { return done(phone_.restart()); }

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
      return {};
    }
    for (const Step& step : steps_)
      if (const auto* want = step.get<act::Expect>();
          want != nullptr && want->variable == "current-slot")
        started_from_ = want->value.substr(0, want->value.find('|'));
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
    PhoneFile out{.name = file.file, .size = file.size, .sha256 = file.sha256};
    WEXLO_TRY(out.bytes, open_(file.file));
    return out;
  }

  const std::vector<Step>& steps_;
  Phone& phone_;
  Hands& hands_;
  const OpenKitFile& open_;
  std::string started_from_, detail_;
};

}  // namespace

std::string_view outcome_word(StepOutcome outcome) {
  constexpr std::array<std::string_view, 6> words{"done",    "confirmed", "unknown",
                                                  "by-hand", "skipped",   "failed"};
  return words[static_cast<std::size_t>(outcome)];
}

Played play(const std::vector<Step>& steps, Phone& phone, Hands& hands, const OpenKitFile& open) {
  return Player(steps, phone, hands, open).run();
}

}  // namespace wexlo
