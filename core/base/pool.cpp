#include "base/pool.hpp"

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <new>
#include <optional>
#include <system_error>
#include <thread>
#include <vector>

#include "base/error_kinds.hpp"

namespace wexlo {

Status check_stop(const Context& context) {
  if (!context.stop.stop_requested()) return {};
  return fail({.code = ErrorCode::Interrupted,
               .message = "interrupted",
               .hint = "Nothing was left half-written; run it again when ready."});
}

struct TaskGroup::State {
  struct Task {
    std::uint64_t number, cost;
    std::function<Status()> run;
  };

  explicit State(const Context& c) : context(c) {}

  void work() {
    std::unique_lock lock(mutex);
    for (;;) {
      changed.wait(lock, [&] { return closing || !queue.empty(); });
      if (queue.empty()) return;
      Task task = std::move(queue.front());
      const std::uint64_t cost = task.cost;
      queue.pop_front();
      run_here(std::move(task), lock);
      // What the task holds goes before its memory is counted as free.
      in_flight -= cost;
      --pending;
      changed.notify_all();
    }
  }

  void run_here(Task task, std::unique_lock<std::mutex>& lock) {
    if (failure) return;
    lock.unlock();
    Status status = run(task);
    task.run = nullptr;
    lock.lock();
    if (status || (failure && task.number > failed_number)) return;
    failure = std::move(status).error();
    failed_number = task.number;
  }

  Status run(const Task& task) const {
    if (auto stopped = check_stop(context); !stopped) return stopped;
    try {
      return task.run();
    } catch (const std::bad_alloc& why) {
      return fail(no_memory_error(why, "a piece of work"));
    } catch (const std::exception& fault) {
      // Out of a thread it would end the program.
      return fail(internal_error(fault.what()));
    }
  }

  const Context context;  ///< a copy: a caller's may be gone before the last task is
  std::mutex mutex;
  std::condition_variable changed;
  std::deque<Task> queue;
  std::uint64_t in_flight = 0, submitted = 0, failed_number = 0;
  std::size_t pending = 0;
  bool closing = false;
  std::optional<Error> failure;
  std::vector<std::jthread> threads;
};

TaskGroup::TaskGroup(const Context& context) : state_(std::make_unique<State>(context)) {
  // One job is the caller's own: a thread beside it would make two.
  if (context.jobs <= 1) return;
  try {
    for (unsigned i = 0; i < context.jobs; ++i)
      state_->threads.emplace_back([state = state_.get()] { state->work(); });
  } catch (const std::system_error&) {
    // The system has no more threads: those that there are do it all, or who submits does.
  }
}

TaskGroup::~TaskGroup() {
  {
    const std::lock_guard lock(state_->mutex);
    state_->queue.clear();
    state_->closing = true;
  }
  state_->changed.notify_all();
  state_->threads.clear();  // joins
}

void TaskGroup::submit(std::uint64_t cost, std::function<Status()> task) {
  State& s = *state_;
  std::unique_lock lock(s.mutex);
  if (s.threads.empty()) return s.run_here({s.submitted++, cost, std::move(task)}, lock);
  s.changed.wait(lock, [&] {
    return s.failure || s.in_flight == 0 || s.in_flight + cost <= s.context.memory_bound;
  });
  if (s.failure) return;
  s.in_flight += cost;
  ++s.pending;
  s.queue.push_back({s.submitted++, cost, std::move(task)});
  s.changed.notify_all();
}

Status TaskGroup::wait() {
  State& s = *state_;
  std::unique_lock lock(s.mutex);
  s.changed.wait(lock, [&] { return s.pending == 0; });
  if (s.failure) return fail(*s.failure);
  return {};
}

}  // namespace wexlo
