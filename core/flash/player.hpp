#pragma once
/// Plays a plan on a phone. What each act of a plan does to a phone stands here and nowhere else.

#include <functional>
#include <set>

#include "kit/plan/plan.hpp"
#include "phone/phone.hpp"

namespace wexlo {

/// How a step ended.
enum class StepOutcome {
  Done,
  Accepted,   ///< a write: the phone said that it was done
  Confirmed,  ///< an expectation that holds; a write that was read back and is the same
  Unknown,    ///< the phone does not know the variable; or its answer to an order was lost
  ByHand,     ///< somebody did it by hand
  Skipped,    ///< left out, and the detail says why
  Failed,     ///< an expectation that does not hold, or the phone refused
};
[[nodiscard]] std::string_view outcome_word(StepOutcome outcome);
[[nodiscard]] std::optional<StepOutcome> outcome_of(std::string_view word);

struct PlayedStep {
  std::string id;
  StepOutcome outcome = StepOutcome::Done;
  std::string detail;  ///< what was found, or why it failed; may be empty
};

/// The person who does by hand what no command does. Errors of all end the play. Those with a
/// result give what was seen.
class Hands {
 public:
  virtual ~Hands() = default;
  [[nodiscard]] virtual Result<std::string> by_hand(const Step& step, const act::ByHand& task,
                                                    Phone& phone) = 0;
  /// Recovery runs by then.
  [[nodiscard]] virtual Result<std::string> install(const Step& step, const act::Install& what,
                                                    Phone& phone) = 0;
  [[nodiscard]] virtual Result<std::string> hand_over(const Step& step, const act::HandOver& what,
                                                      Phone& phone) = 0;
  /// Brings the phone into a mode where no command does, by its keys: System is a start.
  [[nodiscard]] virtual Status bring(const Step& step, PhoneMode mode, Phone& phone) = 0;
};

/// Where the bytes of a kit's file are.
using OpenKitFile = std::function<Result<SourcePtr>(const std::string& name)>;

/// Sees a play go on.
class PlayWatch {
 public:
  virtual ~PlayWatch() = default;
  virtual void begins(const Step& step, std::size_t index) = 0;
  virtual void ended(const Step& step, const PlayedStep& played) = 0;
  /// Why a step is left out; empty: it is not.
  [[nodiscard]] virtual std::string leaves_out(const Step& step) {
    (void)step;
    return {};
  }
  /// The slot that the steps are seen from is known.
  virtual void sees_slot(const std::string& letter) { (void)letter; }
  /// Before each step, also one that is left out. An error stops the play there: nothing of the
  /// step was done.
  [[nodiscard]] virtual Status may_go_on(std::size_t index) {
    (void)index;
    return {};
  }
};

struct PlayOptions {
  std::string from{};                ///< id of the step to begin with; empty: the first
  std::set<std::string> accepted{};  ///< ids of expectations that need not hold
  /// The letter of the slot that the phone started from when the direction began; empty: asked for.
  std::string started_from{};
  PlayWatch* watch = nullptr;  ///< nullptr: nobody
};

struct Played {
  std::vector<PlayedStep> steps;  ///< as far as it came; the last one may have failed
  std::optional<Error> error;     ///< why it did not come to the end; nullopt: it did
  [[nodiscard]] bool done() const { return !error; }
};

/// One direction of a plan. The slot that the phone starts from is asked for when its bootloader
/// answers first; a phone that does not say is believed to be the one that the plan was made for.
/// Errors in what is returned: besides the phone's and the hands', DoesNotFit (an expectation),
/// Usage (`from` is no step).
[[nodiscard]] Played play(const std::vector<Step>& steps, Phone& phone, Hands& hands,
                          const OpenKitFile& open, const PlayOptions& options = {});

[[nodiscard]] PhoneMode phone_mode(Mode mode);
/// Whether a variable's value is what was expected.
[[nodiscard]] bool expectation_holds(const act::Expect& want, const std::string& found);

}  // namespace wexlo
