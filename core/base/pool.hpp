#pragma once
/// A pool of worker threads with a bound on the memory that queued and running tasks may hold.

#include <cstdint>
#include <functional>
#include <memory>
#include <stop_token>

#include "base/error.hpp"
#include "base/memory.hpp"

namespace wexlo {

/// What a long job is given from outside.
struct Context {
  unsigned jobs = 1;                       ///< worker threads; 1: none but the caller's own
  std::uint64_t memory_bound = 64u << 20;  ///< bytes for tasks in flight
  /// What the user allows: bytes of decoded content held at a time, and of one image that is
  /// written. 0: bounds that stock images never reach.
  std::uint64_t decode_bound = 0;
  /// Decoded content that is held now. Copies of a context share it; nullptr: not counted.
  HeldBytesPtr held = std::make_shared<HeldBytes>();
  std::stop_token stop{};  ///< asked for between chunks of work
  std::function<void(std::uint64_t done, std::uint64_t total)> progress{};  ///< bytes; may be empty
  /// Whole things that are done, of how many, e.g. kits; may be empty.
  std::function<void(std::uint64_t done, std::uint64_t total)> steps{};
};

/// Interrupted, once a stop was asked for.
[[nodiscard]] Status check_stop(const Context& context);

/// Runs tasks in parallel, or each where it is submitted if there is one job; the first failure (in
/// order of submission) is what `wait` gives, and tasks not yet begun are dropped then.
class TaskGroup {
 public:
  explicit TaskGroup(const Context& context);
  TaskGroup(const TaskGroup&) = delete;
  TaskGroup& operator=(const TaskGroup&) = delete;
  ~TaskGroup();  ///< drops what has not begun and waits for what runs

  /// @param cost  bytes the task holds while it is queued or runs. Blocks until they fit into the
  ///              bound; a task larger than the whole bound runs alone.
  void submit(std::uint64_t cost, std::function<Status()> task);
  [[nodiscard]] Status wait();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace wexlo
