#pragma once
/// A progress line on the terminal: share done, rate, time left.

#include <chrono>
#include <cstdint>
#include <iosfwd>
#include <mutex>

namespace wexlo::cli {

class Progress {
 public:
  explicit Progress(std::ostream& out) : out_(out) {}
  ~Progress() { clear(); }
  Progress(const Progress&) = delete;
  Progress& operator=(const Progress&) = delete;
  /// May be called from several threads; draws at most ten times a second.
  void show(std::uint64_t done, std::uint64_t total);
  /// Whole things instead of bytes: `2 of 6`.
  void count(std::uint64_t done, std::uint64_t total);
  /// Takes the line away, before something else is printed.
  void finish();

 private:
  using Clock = std::chrono::steady_clock;
  void clear();
  std::ostream& out_;
  std::mutex mutex_;
  Clock::time_point begin_ = Clock::now(), drawn_{};
  bool shown_ = false;
};

}  // namespace wexlo::cli
