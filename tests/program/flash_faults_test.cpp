/// Flashing with faults by chance: what is said of a write is never more than what is true, and
/// going on, or back, ends where the plan promises.

#include <atomic>

#include "job/flash.hpp"
#include "program/bench.hpp"
#include "support/plan_phone.hpp"
#include "support/rounds.hpp"
#include "support/served.hpp"

namespace wexlo::test {
namespace fs = std::filesystem;

namespace {

/// Agrees to everything, and has done everything.
class WillingDesk final : public FlashDesk {
 public:
  bool agrees(const std::vector<const Step*>&) override { return true; }
  void begins(const Step&, std::size_t) override {}
  void ended(const Step& step, const PlayedStep& played) override {
    if (seen) seen(step, played);
  }
  Result<std::string> by_hand(const Step&, const act::ByHand&, Phone&) override {
    return std::string();
  }
  Result<std::string> install(const Step&, const act::Install&, Phone&) override {
    return std::string();
  }
  Result<std::string> hand_over(const Step&, const act::HandOver&, Phone&) override {
    return std::string();
  }
  Status bring(const Step&, PhoneMode mode, Phone&) override {
    if (keys) keys(mode);
    return {};
  }
  std::function<void(const Step&, const PlayedStep&)> seen;
  std::function<void(PhoneMode)> keys;
};

struct Round {
  const Kit& kit;
  const Bench& bench;
  Random& random;
  std::map<std::string, StepOutcome> last_outcome{};  ///< of writes, by partition
  std::size_t unknown = 0, confirmed = 0, stopped = 0, backs = 0;

  std::unique_ptr<SimulatedPhone> phone(Faults faults) const {
    return phone(std::move(faults), filled());
  }
  StorePtr filled() const {
    auto store = std::make_unique<MemoryStore>();
    for (const auto& [name, bytes] : bench.images)
      for (const char* slot : {"_a", "_b"}) {
        REQUIRE(store->add(name + slot, bytes.size()));
        REQUIRE(store->put(name + slot, {{0, bytes.size(), open_memory(blob(bytes), name), 0}}));
      }
    return store;
  }
  std::unique_ptr<SimulatedPhone> phone(Faults faults, StorePtr store) const {
    PhoneState state;
    state.product = "gnomon";
    state.mode = PhoneMode::Bootloader;
    state.gives_back = random() % 2 == 0 ? ReadingBack::Everywhere : ReadingBack::Nowhere;
    state.fetch_limit = 64u << 10;
    return std::make_unique<SimulatedPhone>(state, std::move(store), std::move(faults));
  }

  std::vector<Fault> faults() const {
    const std::vector<std::string> all{"drop=" + std::to_string(random() % 700'000),
                                       "refuse=flash:",
                                       "refuse=download:",
                                       "no-reply=flash:",
                                       "no-reply=reboot",
                                       "bad-block",
                                       "dead-cable=" + std::to_string(random() % 40),
                                       "refuse=reboot"};
    std::vector<Fault> out;
    for (std::size_t count = 1 + random() % 3; count > 0; --count)
      out.push_back(value_of(parse_fault(all[random() % all.size()])));
    return out;
  }

  static bool holds(SimulatedPhone& at, const std::string& name, const std::string& bytes) {
    const Bytes now = value_of(read_some(*value_of(at.content(name)), 0, bytes.size()));
    return equal(now, as_view(bytes));
  }

  /// @return whether it came to its end
  bool run(WirePhoneServed& served, FlashOptions options) {
    WillingDesk desk;
    desk.seen = [&](const Step& step, const PlayedStep& played) {
      const auto* write = step.get<act::Write>();
      if (write == nullptr || played.outcome == StepOutcome::Skipped) return;
      last_outcome[write->partition] = played.outcome;
      unknown += played.outcome == StepOutcome::Unknown ? 1 : 0;
      if (played.outcome != StepOutcome::Confirmed) return;
      ++confirmed;
      const std::lock_guard mine(served.turn);
      CHECK(holds(served.phone(), write->partition + "_a", read(kit.folder() / write->file.file)));
    };
    desk.keys = [&](PhoneMode mode) {
      const std::lock_guard mine(served.turn);
      served.phone().bring(mode);
    };
    options.addresses = {served.address()};
    options.waits = kWaits;
    last = flash(kit, options, desk, {});
    return last && last->done;
  }
  Result<Flashed> last = Flashed{};

  void play() {
    fs::remove(kit.folder() / "flash-log.jsonl");
    last_outcome.clear();
    WirePhoneServed served(phone(Faults(faults())), Wire::Tcp);
    FlashOptions options;
    bool back = false, done = false;
    for (int tries = 0; tries < 12 && !done; ++tries) {
      done = run(served, options);
      if (done) break;
      ++stopped;
      {
        // The cable is put in again, and somebody holds the keys.
        const std::lock_guard mine(served.turn);
        if (tries > 3 || served.phone().faults.has(FaultKind::DeadCable))
          served.phone().faults = Faults();
        served.phone().state.mode = PhoneMode::Bootloader;
      }
      if (!last || last->stopped_at.empty()) continue;
      if (!back && random() % 3 == 0) {
        back = true;
        ++backs;
        options = {.direction = Direction::Back};
      } else {
        options.from = last->stopped_at;
      }
    }
    REQUIRE_MESSAGE(done,
                    (last ? (last->error ? describe(*last->error) : "") : describe(last.error())));
    const std::lock_guard mine(served.turn);
    for (const KitImage& one : kit.manifest().images) {
      if (!one.written) continue;
      const std::string& file = back ? one.stock_files.file : one.flash.file;
      // A bad block that nobody reads back stays unnoticed: the phone gives nothing back, or the
      // link was lost just then.
      const auto told = last_outcome.find(one.partition);
      if (told != last_outcome.end() && told->second == StepOutcome::Confirmed)
        CHECK(holds(served.phone(), one.partition + "_a", read(kit.folder() / file)));
    }
  }
};

/// A phone that is still busy writing when somebody asks for a stop, until it is told to go on.
class BusyStore final : public PartitionStore {
 public:
  explicit BusyStore(StorePtr store) : store_(std::move(store)) {}
  std::stop_source stop;
  std::atomic<bool> busy = false, released = false;

  std::map<std::string, std::uint64_t> sizes() const override { return store_->sizes(); }
  std::optional<std::uint64_t> size_of(const std::string& name) const override {
    return store_->size_of(name);
  }
  Result<SourcePtr> read(const std::string& name) const override { return store_->read(name); }
  Status put(const std::string& name, const std::vector<Put>& puts) override {
    busy = true;
    stop.request_stop();
    released.wait(false);
    return store_->put(name, puts);
  }
  Status add(const std::string& name, std::uint64_t size) override {
    return store_->add(name, size);
  }

 private:
  StorePtr store_;
};

}  // namespace

TEST_CASE("flash: a thousand schedules of faults: no claim that is not true, and an end") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "-r", "flags.toml"})["ok"] == true);
  const Kit kit = value_of(Kit::open(bench.dir / "kit"));
  Random random(20);
  Round round{kit, bench, random};
  for (int i = 0; i < rounds(1000); ++i) {
    CAPTURE(i);
    round.play();
  }
  CHECK(round.unknown > 20);
  CHECK(round.confirmed > 100);
  CHECK(round.stopped > 100);
  CHECK(round.backs > 20);
}

TEST_CASE("flash: the way back undoes what was written, and no more") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "-r", "flags.toml"})["ok"] == true);
  const Kit kit = value_of(Kit::open(bench.dir / "kit"));
  Random random(4);
  Round round{kit, bench, random};
  std::vector<std::string> writes;
  const Plan plan = value_of(kit.plan());
  for (const Step& step : plan.steps)
    if (step.is<act::Write>()) writes.push_back(step.id);
  REQUIRE(writes.size() >= 2);
  WirePhoneServed served(round.phone(Faults({value_of(parse_fault("refuse=flash:vbmeta"))})),
                         Wire::Tcp);
  CHECK_FALSE(round.run(served, {}));
  REQUIRE(round.last);
  CHECK(round.last->error->code == ErrorCode::PhoneRefused);
  CHECK(round.last->takes_back);
  const auto runs = value_of(read_flash_log(kit.folder() / "flash-log.jsonl"));
  REQUIRE(runs.size() == 1);
  CHECK(runs[0].ended);
  CHECK(runs[0].serial == "SIMULATED1");
  CHECK(runs[0].slot == "a");
  std::map<std::string, StepOutcome> undone;
  WillingDesk desk;
  desk.seen = [&](const Step& step, const PlayedStep& played) {
    if (step.is<act::Write>()) undone[step.id] = played.outcome;
  };
  FlashOptions options{
      .addresses = {served.address()}, .direction = Direction::Back, .waits = kWaits};
  const Flashed back = value_of(flash(kit, options, desk, {}));
  CHECK(back.done);
  CHECK_FALSE(back.takes_back);
  CHECK(undone.at("back-init_boot-current") != StepOutcome::Skipped);
  // The refused write may have left something: it is written back, too.
  CHECK(undone.at("back-vbmeta-current") != StepOutcome::Skipped);
  // Another phone's log is no log for this one.
  {
    const std::lock_guard mine(served.turn);
    served.phone().state.serial = "ANOTHER";
    served.phone().state.mode = PhoneMode::Bootloader;
  }
  const auto other = flash(kit, options, desk, {});
  REQUIRE_FALSE(other);
  CHECK(other.error().code == ErrorCode::DoesNotFit);
}

TEST_CASE("flash: a stop inside a write ends as stopped, and the write is unknown") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  const Kit kit = value_of(Kit::open(bench.dir / "kit"));
  Random random(4);
  const Round round{kit, bench, random};
  auto made = std::make_unique<BusyStore>(round.filled());
  BusyStore& store = *made;
  WirePhoneServed served(round.phone({}, std::move(made)), Wire::Tcp);
  WillingDesk desk;
  Context context;
  context.stop = store.stop.get_token();
  const auto stopped =
      flash(kit, {.addresses = {served.address()}, .waits = kWaits}, desk, context);
  store.released = true;
  store.released.notify_all();
  REQUIRE_MESSAGE(stopped, describe(stopped.error()));
  REQUIRE(store.busy);
  REQUIRE(stopped->error);
  CHECK(stopped->error->code == ErrorCode::Interrupted);
  CHECK_FALSE(stopped->done);
  CHECK(stopped->takes_back);
  REQUIRE_FALSE(stopped->steps.empty());
  CHECK(stopped->steps.back().outcome == StepOutcome::Unknown);
  CHECK(stopped->stopped_at == stopped->steps.back().id);
  const auto runs = value_of(read_flash_log(kit.folder() / "flash-log.jsonl"));
  REQUIRE(runs.size() == 1);
  CHECK(runs[0].ended);
  CHECK(runs[0].steps.back().outcome == StepOutcome::Unknown);
}

TEST_CASE("flash: a wrong phone, a locked one, an empty battery: nothing is written") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml"})["ok"] == true);
  const Kit kit = value_of(Kit::open(bench.dir / "kit"));
  Random random(4);
  Round round{kit, bench, random};
  const std::vector<std::pair<std::string, std::function<void(PhoneState&)>>> cases{
      {"product", [](PhoneState& s) { s.product = "vernier"; }},
      {"unlocked", [](PhoneState& s) { s.locked = true; }},
      {"current-slot", [](PhoneState& s) { s.slot = "b"; }},
      {"snapshot", [](PhoneState& s) { s.update = UpdateState::Snapshotted; }},
      {"battery", [](PhoneState& s) { s.battery = 2; }}};
  for (const auto& [word, spoil] : cases) {
    CAPTURE(word);
    fs::remove(kit.folder() / "flash-log.jsonl");
    auto phone = round.phone({});
    spoil(phone->state);
    WirePhoneServed served(std::move(phone), Wire::Tcp);
    CHECK_FALSE(round.run(served, {}));
    REQUIRE_FALSE(round.last);
    CHECK(round.last.error().code == ErrorCode::DoesNotFit);
    CHECK(round.last.error().found.contains(word));
    CHECK_FALSE(fs::exists(kit.folder() / "flash-log.jsonl"));
    const std::lock_guard mine(served.turn);
    CHECK(served.phone().state.written.empty());
  }
}

TEST_CASE("flash log: a line that was cut is passed over, a step that only began is unknown") {
  const TempDir dir;
  write(dir / "log",
        "{\"time\":\"t\",\"event\":\"begin\",\"direction\":\"forward\",\"serial\":\"S\"}\n"
        "{\"time\":\"t\",\"event\":\"slot\",\"slot\":\"b\"}\n"
        "{\"time\":\"t\",\"event\":\"step-begins\",\"id\":\"one\"}\n"
        "{\"time\":\"t\",\"event\":\"step\",\"id\":\"one\",\"outcome\":\"accepted\"}\n"
        "{\"time\":\"t\",\"event\":\"step-begins\",\"id\":\"two\"}\n"
        "{\"time\":\"t\",\"eve");
  const auto runs = value_of(read_flash_log(dir / "log"));
  REQUIRE(runs.size() == 1);
  CHECK(runs[0].slot == "b");
  CHECK_FALSE(runs[0].ended);
  REQUIRE(runs[0].steps.size() == 2);
  CHECK(runs[0].steps[0].outcome == StepOutcome::Accepted);
  CHECK(runs[0].steps[1].outcome == StepOutcome::Unknown);
  CHECK(value_of(read_flash_log(dir / "none")).empty());
  {
    // The next run begins on a line of its own.
    FlashLog log = value_of(FlashLog::open(dir / "log", [] { return 0; }));
    REQUIRE(log.begin({.direction = Direction::Back, .serial = "S"}));
    REQUIRE(log.phone_says("erasing"));
    REQUIRE(log.step({.id = "three", .outcome = StepOutcome::Confirmed}));
    REQUIRE(log.end(true, ""));
  }
  const auto both = value_of(read_flash_log(dir / "log"));
  REQUIRE(both.size() == 2);
  CHECK(both[0].steps.size() == 2);
  CHECK(both[1].direction == Direction::Back);
  CHECK(both[1].ended);
  REQUIRE(both[1].steps.size() == 1);
  CHECK(both[1].steps[0].outcome == StepOutcome::Confirmed);
  CHECK(read(dir / "log").contains("\"event\":\"phone\",\"text\":\"erasing\""));
  for (const char* text : {"{\"tim", ""}) {
    write(dir / "cut", text);
    REQUIRE(FlashLog::open(dir / "cut", [] { return 0; }));
    CHECK(read(dir / "cut").empty());
  }
  write(dir / "odd", "{\"time\":\"t\",\"event\":\"begun\"}\n");
  CHECK(read_flash_log(dir / "odd").error().code == ErrorCode::BadValue);
  write(dir / "bad", "{\"time\":\"t\",\"event\":\"step\",\"id\":\"one\",\"outcome\":\"done\"}\n");
  CHECK(read_flash_log(dir / "bad").error().code == ErrorCode::BadValue);
  write(dir / "worse", "no JSON\n");
  CHECK(read_flash_log(dir / "worse").error().code == ErrorCode::BadValue);
  CHECK(utc_text(1'796'000'000) == "2026-11-30T00:53:20Z");
}

}  // namespace wexlo::test
