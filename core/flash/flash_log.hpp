#pragma once
/// flash-log.jsonl: what was done to a phone, a line an event, appended and never rewritten. Times
/// are of this machine, in UTC. docs/flash.md, docs/schema/file-flash-log.json.

#include <filesystem>
#include <functional>
#include <set>

#include "flash/player.hpp"
#include "text/json.hpp"

namespace wexlo {

enum class Direction { Forward, Back };
[[nodiscard]] std::string_view direction_word(Direction direction);  ///< "forward", "back"

/// Seconds since 1970, from whoever asks: tests have their own clock.
using Clock = std::function<std::int64_t()>;
[[nodiscard]] std::int64_t clock_now();
/// "2026-11-30T07:30:00Z".
[[nodiscard]] std::string utc_text(std::int64_t seconds);

/// What a line tells.
enum class LogEvent {
  Begin,
  Slot,  ///< that the steps are seen from
  StepBegins,
  PhoneSays,  ///< a line that the phone said while it worked
  Step,       ///< it ended
  End,
};

/// One run of `flash`.
struct LoggedRun {
  Direction direction = Direction::Forward;
  std::string time, address, serial, product, slot;  ///< slot: that its steps are seen from
  std::string plan_sha256;
  std::vector<PlayedStep> steps;
  bool ended = false;  ///< false: the program was killed
};

/// All runs that a log tells of. A last line that was cut is passed over. A log that is not there
/// tells of none. Errors: BadValue with the line, those of reading.
[[nodiscard]] Result<std::vector<LoggedRun>> read_flash_log(const std::filesystem::path& file);
[[nodiscard]] Result<std::vector<LoggedRun>> parse_flash_log(std::string_view text,
                                                             const std::string& file);

/// Those of one plan: a kit that was made anew has another, and what was done by the older one is
/// not its own.
[[nodiscard]] std::vector<LoggedRun> runs_of_plan(std::vector<LoggedRun> runs,
                                                  std::string_view plan_sha256);

/// Ids of steps that changed the phone, or may have: what a way back from here has to undo. Writes
/// that were tried count, whatever came of them.
/// @param runs  of this plan, in order; a way back undoes what it played
[[nodiscard]] std::set<std::string> changes_made(const std::vector<LoggedRun>& runs,
                                                 const Plan& plan);

class FlashLog {
 public:
  /// Opens it for appending. A last line that a killed program left without an end is taken away:
  /// what follows would be part of it. Errors: those of writing.
  [[nodiscard]] static Result<FlashLog> open(const std::filesystem::path& file, Clock clock);
  FlashLog(FlashLog&& other) noexcept;
  FlashLog& operator=(FlashLog&&) = delete;
  ~FlashLog();
  /// Each is on the disk when it returns. Errors: those of writing.
  [[nodiscard]] Status begin(const LoggedRun& run);
  [[nodiscard]] Status slot(const std::string& letter);
  [[nodiscard]] Status step_begins(const Step& step);
  [[nodiscard]] Status phone_says(const std::string& line);
  [[nodiscard]] Status step(const PlayedStep& played);
  [[nodiscard]] Status end(bool done, const std::string& reason);

 private:
  FlashLog(std::filesystem::path file, int fd, Clock clock)
      : file_(std::move(file)), fd_(fd), clock_(std::move(clock)) {}
  [[nodiscard]] Status append(LogEvent event, std::initializer_list<Json::Member> more);
  [[nodiscard]] Status drop_cut_line() const;
  std::filesystem::path file_;
  int fd_;
  Clock clock_;
};

}  // namespace wexlo
