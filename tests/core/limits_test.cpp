/// What reads documents, sources and tasks keeps its limits: at each of them, and one beyond.

#include <future>
#include <latch>
#include <optional>

#include "base/pool.hpp"
#include "base/source.hpp"
#include "firmware/payload_operation.hpp"
#include "support/check.hpp"
#include "text/json_read.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("json: size, depth and number of values at their limits and one over") {
  const auto read = [](const std::string& text, const JsonLimits& limits) {
    const auto got = parse_json(text, "x.json", limits);
    if (!got) CHECK(got.error().code == ErrorCode::LimitExceeded);
    return got.has_value();
  };
  const std::string text = R"({"a": {"b": {"c": 1}}, "d": [1, 2]})";
  CHECK(read(text, {.size = text.size()}));
  CHECK_FALSE(read(text, {.size = text.size() - 1}));
  CHECK(read(text, {.depth = 3}));
  CHECK_FALSE(read(text, {.depth = 2}));
  // Counted generously: itself, what opens, what follows a comma.
  CHECK(read(text, {.values = 7}));
  CHECK_FALSE(read(text, {.values = 6}));
  // What stands in quotes is text.
  CHECK(read(R"({"a": "[[[[{{{{,,,,\"[[["})", {.depth = 1, .values = 2}));
}

TEST_CASE("source: a window ends with its source, what is read whole has its bound") {
  const SourcePtr five = open_memory(blob("12345"), "five");
  CHECK(open_window(five, 0, 5, "w"));
  CHECK(open_window(five, 5, 0, "w"));
  CHECK_FALSE(open_window(five, 0, 6, "w"));
  CHECK_FALSE(open_window(five, 1, 5, "w"));
  CHECK_FALSE(open_window(five, 1, ~std::uint64_t{0}, "w"));
  CHECK(read_all(*five, 5));
  CHECK(read_all(*five, 4).error().code == ErrorCode::LimitExceeded);
}

TEST_CASE("pool: what it was told stays its own when the caller's is gone") {
  auto told = std::make_unique<Context>(Context{.jobs = 2, .memory_bound = 100});
  TaskGroup tasks(*told);
  *told = {.memory_bound = 0};
  told.reset();
  int done = 0;
  tasks.submit(60, [&]() -> Status { return ++done, Status{}; });
  tasks.submit(60, [&]() -> Status { return ++done, Status{}; });
  CHECK(tasks.wait());
  CHECK(done == 2);
}

TEST_CASE("pool: a task waits until those in flight leave it room") {
  TaskGroup tasks({.jobs = 4, .memory_bound = 100});
  std::latch go(1);
  for (int i = 0; i < 3; ++i)
    tasks.submit(30, [&]() -> Status { return go.wait(), Status{}; });
  tasks.submit(10, [&]() -> Status { return go.wait(), Status{}; });  // fills it to the last byte
  auto fifth =
      std::async(std::launch::async, [&] { tasks.submit(1, []() -> Status { return Status{}; }); });
  // However long this waits, it never comes in before one has ended.
  CHECK(fifth.wait_for(std::chrono::milliseconds(200)) == std::future_status::timeout);
  go.count_down();
  fifth.get();
  CHECK(tasks.wait());
}

TEST_CASE(
    "payload: operations wait until those in flight leave them room; a large one runs alone") {
  MemoryGate gate(100);
  const auto waits = [&](std::uint64_t bytes) {
    return std::async(std::launch::async,
                      [&gate, bytes] { const MemoryGate::Pass pass(gate, bytes); });
  };
  std::optional<MemoryGate::Pass> first, second;
  first.emplace(gate, 60);
  second.emplace(gate, 40);  // fills it to the last byte
  auto third = waits(1);
  CHECK(third.wait_for(std::chrono::milliseconds(200)) == std::future_status::timeout);
  second.reset();
  third.get();
  auto large = waits(1000);
  CHECK(large.wait_for(std::chrono::milliseconds(200)) == std::future_status::timeout);
  first.reset();
  large.get();
}
