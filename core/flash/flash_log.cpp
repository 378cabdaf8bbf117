#include "flash/flash_log.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <ctime>

#include "text/json_read.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMostLog = 64u << 20;

/// In the order of the enum.
constexpr std::array<std::string_view, 6> kEvents{"begin", "slot", "step-begins",
                                                  "phone", "step", "end"};

bool changes(const Step& step) {
  return step.is<act::Write>() || step.is<act::Drop>() || step.is<act::Create>() ||
         step.is<act::Resize>() || step.is<act::ChooseSlot>() || step.is<act::Install>() ||
         step.is<act::HandOver>() || step.is<act::Wipe>();
}

/// A write that failed may have left something; other orders are done, or not.
bool counts(const Step& step, StepOutcome outcome) {
  if (outcome == StepOutcome::Skipped) return false;
  return step.is<act::Write>() || outcome != StepOutcome::Failed;
}

/// The step that another is a piece of: "write-system-current-2" of "write-system-current".
std::string whole_of(const Step& step) {
  const auto* write = step.get<act::Write>();
  if (write == nullptr || write->piece < 2) return step.id;
  return step.id.substr(0, step.id.rfind('-'));
}

class LogReader {
 public:
  explicit LogReader(std::string file) : file_(std::move(file)) {}

  Result<std::vector<LoggedRun>> run(std::string_view text) {
    for (std::size_t number = 1; !text.empty(); ++number) {
      const std::size_t end = text.find('\n');
      // The line that a killed program was writing.
      if (end == text.npos) break;
      const auto taken = line(text.substr(0, end), number);
      if (!taken) return fail(taken.error());
      text.remove_prefix(end + 1);
    }
    return std::move(out_);
  }

 private:
  Status line(std::string_view text, std::size_t number) {
    WEXLO_TRY(const JsonValue row, parse_json(text, fmt::format("{}, line {}", file_, number)));
    WEXLO_TRY(const std::string word, row.text("event"));
    const auto* const at = std::ranges::find(kEvents, word);
    if (at == kEvents.end()) return row.wrong("event", "is none of the known");
    const auto event = static_cast<LogEvent>(at - kEvents.begin());
    if (event == LogEvent::Begin) return begin(row);
    if (out_.empty()) return row.wrong("event", "stands before a run begins");
    switch (event) {
      case LogEvent::Slot: {
        WEXLO_TRY(out_.back().slot, row.text("slot"));
        break;
      }
      case LogEvent::StepBegins: return step_begins(row, out_.back());
      case LogEvent::Step: return step(row, out_.back());
      case LogEvent::End: out_.back().ended = true; break;
      case LogEvent::Begin:
      case LogEvent::PhoneSays: break;
    }
    return {};
  }

  Status step_begins(const JsonValue& row, LoggedRun& run) {
    PlayedStep step{.outcome = StepOutcome::Unknown, .detail = "it was begun"};
    WEXLO_TRY(step.id, row.text("id"));
    run.steps.push_back(std::move(step));
    begun_ = true;
    return {};
  }

  Status step(const JsonValue& row, LoggedRun& run) {
    PlayedStep step;
    WEXLO_TRY(step.id, row.text("id"));
    WEXLO_TRY(step.detail, row.text_or("detail", ""));
    WEXLO_TRY(const std::string word, row.text("outcome"));
    const auto outcome = outcome_of(word);
    if (!outcome) return row.wrong("outcome", "is none of the known");
    step.outcome = *outcome;
    // What was only begun is told once it ends.
    if (!run.steps.empty() && run.steps.back().id == step.id && begun_) run.steps.pop_back();
    begun_ = false;
    run.steps.push_back(std::move(step));
    return {};
  }

  Status begin(const JsonValue& row) {
    LoggedRun run;
    WEXLO_TRY(const std::string direction, row.text("direction"));
    run.direction =
        direction == direction_word(Direction::Back) ? Direction::Back : Direction::Forward;
    WEXLO_TRY(run.time, row.text("time"));
    WEXLO_TRY(run.address, row.text_or("address", ""));
    WEXLO_TRY(run.serial, row.text_or("serial", ""));
    WEXLO_TRY(run.product, row.text_or("product", ""));
    WEXLO_TRY(run.plan_sha256, row.text_or("plan_sha256", ""));
    begun_ = false;
    out_.push_back(std::move(run));
    return {};
  }

  std::string file_;
  std::vector<LoggedRun> out_;
  bool begun_ = false;
};

}  // namespace

std::string_view direction_word(Direction direction) {
  return direction == Direction::Forward ? "forward" : "back";
}

std::int64_t clock_now() {
  return std::chrono::duration_cast<std::chrono::seconds>(
             std::chrono::system_clock::now().time_since_epoch())
      .count();
}

std::string utc_text(std::int64_t seconds) {
  const std::time_t time = seconds;
  std::tm parts{};
  ::gmtime_r(&time, &parts);
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z", parts.tm_year + 1900, parts.tm_mon + 1,
                     parts.tm_mday, parts.tm_hour, parts.tm_min, parts.tm_sec);
}

Result<std::vector<LoggedRun>> read_flash_log(const fs::path& file) {
  std::error_code ignored;
  if (!fs::exists(file, ignored)) return std::vector<LoggedRun>();
  WEXLO_TRY(const SourcePtr source, open_file(file));
  WEXLO_TRY(const Blob text, read_all(*source, kMostLog));
  return parse_flash_log(as_text(text.view()), file.string());
}

Result<std::vector<LoggedRun>> parse_flash_log(std::string_view text, const std::string& file) {
  return LogReader(file).run(text);
}

std::vector<LoggedRun> runs_of_plan(std::vector<LoggedRun> runs, std::string_view plan_sha256) {
  std::erase_if(runs, [&](const LoggedRun& one) { return one.plan_sha256 != plan_sha256; });
  return runs;
}

std::set<std::string> changes_made(const std::vector<LoggedRun>& runs, const Plan& plan) {
  std::set<std::string> out;
  for (const LoggedRun& run : runs)
    for (const PlayedStep& played : run.steps) {
      const bool forward = run.direction == Direction::Forward;
      const auto& steps = forward ? plan.steps : plan.back;
      const auto at = std::ranges::find(steps, played.id, &Step::id);
      if (at == steps.end() || !changes(*at)) continue;
      if (forward && counts(*at, played.outcome)) out.insert(played.id);
      const bool undone = played.outcome == StepOutcome::Done ||
                          played.outcome == StepOutcome::Accepted ||
                          played.outcome == StepOutcome::Confirmed;
      if (!forward && undone)
        std::erase_if(out, [&](const std::string& id) {
          const auto made = std::ranges::find(plan.steps, id, &Step::id);
          return made != plan.steps.end() && made->undo == whole_of(*at);
        });
    }
  return out;
}

Result<FlashLog> FlashLog::open(const fs::path& file, Clock clock) {
  const int fd = ::open(file.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0644);
  if (fd < 0) return fail(io_error(errno, "cannot write the log", file.string()));
  FlashLog out(file, fd, std::move(clock));
  WEXLO_CHECK(out.drop_cut_line());
  return out;
}

FlashLog::FlashLog(FlashLog&& other) noexcept
    : file_(std::move(other.file_)),
      fd_(std::exchange(other.fd_, -1)),
      clock_(std::move(other.clock_)) {}

FlashLog::~FlashLog() {
  if (fd_ >= 0) ::close(fd_);
}

/// Beginning with its time and event, which every line has.
Status FlashLog::append(LogEvent event, std::initializer_list<Json::Member> more) {
  Json row = {{"time", utc_text(clock_())}, {"event", kEvents[static_cast<std::size_t>(event)]}};
  for (const auto& [key, value] : more)
    row[key] = value;
  const std::string line = row.line() + '\n';
  for (std::string_view left = line; !left.empty();) {
    const ssize_t put = ::write(fd_, left.data(), left.size());
    if (put < 0) return fail(io_error(errno, "cannot write the log", file_.string()));
    left.remove_prefix(static_cast<std::size_t>(put));
  }
  // It has to outlive a power cut: the way back is worked out from it.
  if (::fdatasync(fd_) != 0 && errno != EINVAL)
    return fail(io_error(errno, "cannot write the log", file_.string()));
  return {};
}

Status FlashLog::drop_cut_line() const {
  WEXLO_TRY(const SourcePtr source, open_file(file_));
  WEXLO_TRY(const Blob blob, read_all(*source, kMostLog));
  const std::string_view text = as_text(blob.view());
  const std::size_t end = text.rfind('\n');
  const std::size_t whole = end == text.npos ? 0 : end + 1;
  if (whole == text.size() || ::ftruncate(fd_, static_cast<off_t>(whole)) == 0) return {};
  return fail(io_error(errno, "cannot write the log", file_.string()));
}

Status FlashLog::begin(const LoggedRun& run) {
  return append(LogEvent::Begin, {{"direction", direction_word(run.direction)},
                                  {"address", run.address},
                                  {"serial", run.serial},
                                  {"product", run.product},
                                  {"plan_sha256", run.plan_sha256}});
}

Status FlashLog::slot(const std::string& letter) {
  return append(LogEvent::Slot, {{"slot", letter}});
}

Status FlashLog::step_begins(const Step& step) {
  return append(LogEvent::StepBegins, {{"id", step.id}});
}

Status FlashLog::phone_says(const std::string& line) {
  return append(LogEvent::PhoneSays, {{"text", line}});
}

Status FlashLog::step(const PlayedStep& played) {
  return append(
      LogEvent::Step,
      {{"id", played.id}, {"outcome", outcome_word(played.outcome)}, {"detail", played.detail}});
}

Status FlashLog::end(bool done, const std::string& reason) {
  return append(LogEvent::End, {{"state", done ? "done" : "stopped"}, {"reason", reason}});
}

}  // namespace wexlo
