#pragma once
/// A kit played on a real phone: what is looked at before, one step after the other with a log, and
/// what is left when it stops.

#include "flash/flash_log.hpp"
#include "kit/folder/kit.hpp"
#include "phone/fastboot/fastboot_phone.hpp"

namespace wexlo {

struct FlashOptions {
  std::vector<PhoneAddress> addresses;  ///< none: the kit's steps are all done by hand
  Direction direction = Direction::Forward;
  std::string from;                ///< id of the step to begin with; empty: the first
  std::set<std::string> accepted;  ///< ids of expectations that need not hold
  bool may_erase = false;          ///< somebody agreed to the loss of the user's data
  bool dry_run = false;            ///< talks to the phone, and writes nothing
  std::filesystem::path log;       ///< empty: in the kit
  PhoneWaits waits{};
  Clock clock = clock_now;
};

/// Whoever flashes: hands, and eyes on each step.
class FlashDesk : public Hands {
 public:
  /// What would be lost is named; true: somebody agrees.
  [[nodiscard]] virtual bool agrees(const std::vector<const Step*>& losing) = 0;
  virtual void begins(const Step& step, std::size_t index) = 0;
  /// A line of the phone's own, as it comes.
  virtual void phone_says(const std::string& line) { (void)line; }
  virtual void ended(const Step& step, const PlayedStep& played) = 0;
};

struct Flashed {
  bool done = false;
  std::vector<PlayedStep> steps;
  std::optional<Error> error;        ///< why it stopped
  std::string stopped_at;            ///< id of the step to go on with; empty: none was begun
  std::vector<std::string> changed;  ///< ids of steps that changed the phone until now
  std::vector<Finding> findings;     ///< of the look before
  std::string serial, product, slot;
  bool takes_back = false;  ///< a way back has something to undo
};

/// Errors: those of the kit and the log, Usage (no such step), NeedsPerson (nobody agrees),
/// LinkLost, PhoneRefused and DoesNotFit before anything was begun. Once it was begun, why it
/// stopped is in what is returned.
[[nodiscard]] Result<Flashed> flash(const Kit& kit, const FlashOptions& options, FlashDesk& desk,
                                    const Context& context);

}  // namespace wexlo
