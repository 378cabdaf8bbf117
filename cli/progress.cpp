#include "progress.hpp"

#include <fmt/format.h>

#include <ostream>

#include "text/text.hpp"

namespace wexlo::cli {

void Progress::show(std::uint64_t done, std::uint64_t total) {
  const std::lock_guard lock(mutex_);
  const auto now = Clock::now();
  if (total == 0) return;
  if (done >= total) {
    clear();
    begin_ = now;  // the next run's rate is its own
    return;
  }
  if (now - drawn_ < std::chrono::milliseconds(100)) return;
  drawn_ = now;
  const double seconds = std::chrono::duration<double>(now - begin_).count();
  const double rate = static_cast<double>(done) / std::max(seconds, 0.001);
  const double left = static_cast<double>(total - done) / std::max(rate, 1.0);
  out_ << fmt::format("\r\033[K{:3}%", done * 100 / total);
  // The first pieces tell nothing of the rate.
  constexpr double kEnough = 0.5;
  if (seconds >= kEnough)
    out_ << fmt::format("  {}/s  {:.0f} s left", human_size(static_cast<std::uint64_t>(rate)),
                        left);
  out_ << std::flush;
  shown_ = true;
}

void Progress::count(std::uint64_t done, std::uint64_t total) {
  const std::lock_guard lock(mutex_);
  if (done >= total) return clear();
  out_ << fmt::format("\r\033[K{} of {} done", done, total) << std::flush;
  shown_ = true;
}

void Progress::finish() {
  const std::lock_guard lock(mutex_);
  clear();
}

void Progress::clear() {
  if (shown_) out_ << "\r\033[K" << std::flush;
  shown_ = false;
}

}  // namespace wexlo::cli
