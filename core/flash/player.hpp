#pragma once
/// Plays a plan on a phone. What each act of a plan does to a phone stands here and nowhere else.

#include <functional>

#include "kit/plan/plan.hpp"
#include "phone/phone.hpp"

namespace wexlo {

/// How a step ended.
enum class StepOutcome {
  Done,
  Confirmed,  ///< an expectation that holds
  Unknown,    ///< the phone does not know the variable: that is not "no"
  ByHand,     ///< hands have done it
  Skipped,    ///< a trial that the phone does not offer
  Failed,     ///< an expectation that does not hold, or the phone refused
};
[[nodiscard]] std::string_view outcome_word(StepOutcome outcome);

struct PlayedStep {
  std::string id;
  StepOutcome outcome = StepOutcome::Done;
  std::string detail;  ///< what was found, or why it failed; may be empty
};

/// Does what no wire does. Errors of all end the play.
class Hands {
 public:
  virtual ~Hands() = default;
  [[nodiscard]] virtual Status by_hand(const Step& step, const act::ByHand& task, Phone& phone) = 0;
  /// Recovery runs by then.
  [[nodiscard]] virtual Status install(const Step& step, const act::Install& what,
                                       Phone& phone) = 0;
  [[nodiscard]] virtual Status hand_over(const Step& step, const act::HandOver& what,
                                         Phone& phone) = 0;
};

/// Where the bytes of a kit's file are. May give a nullptr: for a phone that keeps no contents.
using OpenKitFile = std::function<Result<SourcePtr>(const std::string& name)>;

struct Played {
  std::vector<PlayedStep> steps;  ///< as far as it came; the last one may have failed
  std::optional<Error> error;     ///< why it did not come to the end; nullopt: it did
  [[nodiscard]] bool done() const { return !error; }
};

/// One direction of a plan, from its first step. The slot that the phone starts from is asked for
/// when its bootloader answers first; a phone that does not say is believed to be the one that the
/// plan was made for.
[[nodiscard]] Played play(const std::vector<Step>& steps, Phone& phone, Hands& hands,
                          const OpenKitFile& open);

}  // namespace wexlo
