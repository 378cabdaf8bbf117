/// Faults of the simulated phone, and its state as a file.

#include "phone/simulated/faults.hpp"
#include "phone/simulated/phone_state.hpp"
#include "support/check.hpp"
#include "support/plan_phone.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("faults: words and what stands behind them; others are refused, with what was meant") {
  CHECK(value_of(parse_fault("drop=4096")).number == 4096);
  CHECK(value_of(parse_fault("refuse=flash:boot_a")).what == "flash:boot_a");
  CHECK(value_of(parse_fault("bad-block")).kind == FaultKind::BadBlock);
  CHECK(value_of(parse_fault("slow=3")).number == 3);
  for (const char* bad :
       {"", "drop", "drop=", "drop=x", "bad-block=1", "refuse", "dropp=1", "=1"}) {
    CAPTURE(bad);
    const auto read = parse_fault(bad);
    REQUIRE_FALSE(read);
    CHECK(read.error().code == ErrorCode::Usage);
  }
  CHECK(parse_fault("bad-blok").error().hint.contains("bad-block"));
}

TEST_CASE("faults: a link drops at the byte that was asked for, once") {
  Faults faults({value_of(parse_fault("drop=1000"))});
  CHECK_FALSE(faults.data(600));
  CHECK(faults.data(600) == 400);
  CHECK_FALSE(faults.data(5000));
  Faults exact({value_of(parse_fault("drop=600"))});
  CHECK_FALSE(exact.data(600));
  CHECK(exact.data(1) == 0);
}

TEST_CASE("faults: a dead cable stays dead, a refusal happens once") {
  Faults faults({value_of(parse_fault("refuse=flash")), value_of(parse_fault("dead-cable=3"))});
  CHECK_FALSE(faults.command("getvar:x"));
  CHECK(faults.command("flash:boot") == FaultKind::Refuses);
  CHECK_FALSE(faults.command("flash:boot"));
  for (int i = 0; i < 3; ++i)
    CHECK(faults.command("getvar:x") == FaultKind::DeadCable);
}

TEST_CASE("simulated phone: its state as a file, and back: nothing is lost") {
  PhoneState state;
  state.product = "gnomon \"x\"";
  state.variables = {{"anti", "4"}, {"odd name", "v"}};
  state.silent = {"current-slot"};
  state.mode = PhoneMode::Recovery;
  state.slot = "b";
  state.locked = true;
  state.slots = {{"a", {.tries = 1, .successful = false, .unbootable = true}}, {"b", {}}};
  state.rollback = {{0, 7}, {1, 9}};
  state.root_key = to_bytes("key");
  state.update = UpdateState::Merging;
  state.data = {.wiped = true, .bound_to = "2026-09", .unreadable = true};
  state.download = {.there = true, .online = false, .strict = false};
  state.gives_back = ReadingBack::Nowhere;
  state.critical = {"xbl"};
  state.written = {"boot_a"};
  state.fuse = state.restores_recovery = state.recovery_ran = state.level_from_header = true;
  const std::string text = format_phone(state);
  CHECK(format_phone(value_of(parse_phone(text, "phone.toml"))) == text);
  for (const char* bad :
       {"mode = \"asleep\"", "locked = 3", "update = \"soon\"", "root_key = \"xyz\"",
        "[slot]\na = 1", "[rollback]\nx = 1", "battery_percent = -1"}) {
    CAPTURE(bad);
    CHECK(parse_phone(bad, "phone.toml").error().code == ErrorCode::BadValue);
  }
}

TEST_CASE("simulated phone: super's tables after many changes are valid, and partitions apart") {
  Random random(3);
  WordPhone start{.state = {},
                  .partitions = {},
                  .sizes = {},
                  .logical = {{"one", kMiB}, {"two", 2 * kMiB}},
                  .super = 32 * kMiB};
  start.state.mode = PhoneMode::Userspace;
  const auto phone = start.made();
  std::map<std::string, std::uint64_t> wanted = start.logical;
  for (int round = 0; round < 200; ++round) {
    const std::string name = "p" + std::to_string(random() % 6);
    const std::uint64_t size = random() % 12 * 300'000;
    const bool there = wanted.contains(name);
    const bool drops = there && random() % 3 == 0;
    const Status done = drops   ? phone->drop_logical(name)
                        : there ? phone->resize_logical(name, size)
                                : phone->create_logical(name, size);
    if (!done) CHECK(done.error().code == ErrorCode::PhoneRefused);
    if (done && drops) wanted.erase(name);
    if (done && !drops) wanted[name] = size;
    const SuperEdit tables = value_of(SuperEdit::read(*value_of(phone->store().read("super"))));
    REQUIRE(tables.partitions().size() == wanted.size());
    std::map<std::uint64_t, std::uint64_t> taken;
    for (const auto& row : tables.partitions()) {
      CHECK(row.size() == align_up(wanted.at(row.name), 4096));
      for (const ByteRange& one : row.extents)
        CHECK(taken.emplace(one.begin, one.end).second);
    }
    std::uint64_t end = 0;
    for (const auto& [from, to] : taken) {
      CHECK(from >= end);
      end = to;
    }
    CHECK(end <= 33 * kMiB);
  }
}
