#include "base/pool.hpp"

#include <algorithm>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <new>
#include <optional>
#include <thread>
#include <vector>

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
      queue.pop_front();
      if (!failure) {
        lock.unlock();
        Status status = run(task);
        // What the task holds goes before its memory is counted as free.
        task.run = nullptr;
        lock.lock();
        if (!status && (!failure || task.number < failed_number)) {
          failure = std::move(status).error();
          failed_number = task.number;
        }
      }
      in_flight -= task.cost;
      --pending;
      changed.notify_all();
    }
  }

  Status run(const Task& task) const {
    if (auto stopped = check_stop(context); !stopped) return stopped;
    try {
      return task.run();
    } catch (const std::bad_alloc&) {
      return fail({.code = ErrorCode::LimitExceeded,
                   .message = "not enough memory",
                   .hint = "Close other programs, or use a smaller --jobs."});
    }
  }

  const Context& context;
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
  for (unsigned i = 0; i < std::max(1u, context.jobs); ++i)
    state_->threads.emplace_back([state = state_.get()] { state->work(); });
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
