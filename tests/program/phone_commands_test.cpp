/// The commands that talk to a phone, as they are run: text, JSON, dry run, at a terminal.

#include "flash/flash_log.hpp"
#include "program/bench.hpp"
#include "support/served.hpp"

namespace wexlo::test {
namespace fs = std::filesystem;

namespace {

/// The bench's phone, served, and a kit for it.
struct PhoneBench : Bench {
  explicit PhoneBench(PhoneState state = {}, const std::vector<std::string>& more = {}) {
    auto store = std::make_unique<MemoryStore>();
    for (const auto& [name, bytes] : images)
      for (const char* slot : {"_a", "_b"}) {
        REQUIRE(store->add(name + slot, bytes.size()));
        REQUIRE(store->put(name + slot, {{0, bytes.size(), open_memory(blob(bytes), name), 0}}));
      }
    REQUIRE(store->add("userdata", 4096));
    state.product = "gnomon";
    state.mode = PhoneMode::Bootloader;
    served.emplace(std::make_unique<SimulatedPhone>(state, std::move(store)), Wire::Tcp);
    std::string locked = sheet();
    locked.replace(locked.find("\"unlocked\""), 10, "\"locked\"");
    write(dir / "locked.toml", locked);
    std::vector<std::string> words{"-r", "r.toml"};
    words.insert(words.end(), more.begin(), more.end());
    REQUIRE(prepare(words)["ok"] == true);
  }

  [[nodiscard]] std::string address() const { return address_text(served->address()); }
  [[nodiscard]] std::vector<std::string> flash_words(const std::vector<std::string>& more) const {
    std::vector<std::string> words{"flash", "kit", "--phone", address()};
    words.insert(words.end(), more.begin(), more.end());
    return words;
  }
  [[nodiscard]] test::Json flash_json(const std::vector<std::string>& more, int wanted = 0) const {
    return program_json(dir, flash_words(more), wanted);
  }
  /// What is on the phone's init_boot now.
  [[nodiscard]] std::string init_boot() {
    const std::lock_guard mine(served->turn);
    const SourcePtr source = value_of(served->phone().content("init_boot_a"));
    return text(value_of(read_some(*source, 0, source->size())));
  }
  /// Somebody holds the keys.
  void at_its_bootloader() {
    const std::lock_guard mine(served->turn);
    served->phone().state.mode = PhoneMode::Bootloader;
  }
  [[nodiscard]] std::string patched() const { return read(dir / "kit/flash/init_boot.img"); }
  [[nodiscard]] Ran at_terminal(std::vector<std::string> words, const Typist& types) const {
    words.insert(words.begin(), built_program());
    return run_in_terminal(words, dir.path().string(),
                           {"XDG_CONFIG_HOME=/nonexistent", "NO_COLOR=1"}, types);
  }

  std::optional<WirePhoneServed> served;
};

std::string outcome_of_step(const test::Json& reply, const std::string& id) {
  for (const test::Json& one : reply["result"]["steps"])
    if (one["id"] == id) return one["outcome"];
  return {};
}

}  // namespace

TEST_CASE("rehearse: text and JSON say the same; a fault or a damaged kit is not well") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml"})["ok"] == true);
  const test::Json well = program_json(bench.dir, {"rehearse", "kit", "--sheet", "sheet.toml"});
  CHECK(well["result"]["verdict"] == "starts");
  const Ran text = program(bench.dir, {"rehearse", "kit", "--sheet", "sheet.toml"});
  CHECK(text.exit_code == 0);
  CHECK(text.out.contains("phone     starts: "));
  CHECK(text.out.contains("way back  starts: "));

  const Ran cut = program(bench.dir, {"rehearse", "kit", "--fault", "drop=1", "--json"});
  CHECK(cut.exit_code == 1);
  CHECK(test::Json::parse(cut.out)["result"]["cause"] == "step-failed");
  CHECK(program(bench.dir, {"rehearse", "kit", "--fault", "drop=1"}).exit_code == 1);
  const Ran slip = program(bench.dir, {"rehearse", "kit", "--fault", "drop"});
  CHECK(slip.exit_code == 2);
  CHECK(slip.err.contains("drop=BYTES"));

  // A file that was changed since: what was rehearsed is not what the kit was made to be.
  write(bench.dir / "kit/plan.txt", read(bench.dir / "kit/plan.txt") + "and more\n");
  const Ran damaged = program(bench.dir, {"rehearse", "kit", "--json"});
  CHECK(damaged.exit_code == 1);
  CHECK(test::Json::parse(damaged.out)["result"]["verdict"] == "starts");
  CHECK(says(test::Json::parse(damaged.out), "problem:kit-file"));
}

TEST_CASE(
    "flash: a dry run writes nothing, then the plan, then the way back; each says what it did") {
  PhoneBench bench;
  const std::string stock = bench.init_boot();
  REQUIRE(stock != bench.patched());
  const test::Json dry = bench.flash_json({"--dry-run"});
  CHECK(dry["result"]["dry_run"] == true);
  CHECK(dry["result"]["serial"] == "SIMULATED1");
  CHECK(bench.init_boot() == stock);
  CHECK_FALSE(fs::exists(bench.dir / "kit/flash-log.jsonl"));

  const test::Json done = bench.flash_json({"--hands-done"});
  CHECK(done["result"]["state"] == "done");
  CHECK(done["result"]["next"].is_null());
  CHECK(bench.init_boot() == bench.patched());
  CHECK(read(bench.dir / "kit/flash-log.jsonl").contains("\"event\":\"end\",\"state\":\"done\""));

  bench.at_its_bootloader();
  const Ran dry_back = program(bench.dir, bench.flash_words({"--back", "--dry-run"}));
  CHECK(dry_back.exit_code == 0);
  CHECK(dry_back.out.contains("dry run: nothing was written"));
  CHECK(bench.init_boot() == bench.patched());
  const Ran back = program(bench.dir, bench.flash_words({"--back", "--hands-done"}));
  CAPTURE(back.err);
  CHECK(back.exit_code == 0);
  CHECK(back.out.contains("The way back"));
  CHECK(bench.init_boot() == stock);
  CHECK(program(bench.dir, {"check", "kit"}).exit_code == 0);
}

TEST_CASE("flash: a way back that stops says what it has written") {
  PhoneBench bench(PhoneState(), {"-r", "flags.toml"});
  CHECK(bench.flash_json({"--hands-done"})["result"]["state"] == "done");
  bench.at_its_bootloader();
  {
    const std::lock_guard mine(bench.served->turn);
    bench.served->phone().faults = Faults({value_of(parse_fault("refuse=flash:vbmeta"))});
  }
  const Ran back = program(bench.dir, bench.flash_words({"--back", "--hands-done"}));
  CAPTURE(back.out);
  CAPTURE(back.err);
  CHECK(back.exit_code == 6);
  CHECK_FALSE((back.out + back.err).contains("nothing was written"));
  CHECK((back.out + back.err).contains("failed: "));
}

TEST_CASE("flash: where it stopped, the reply has the commands that go on and back, ready to run") {
  PhoneBench bench;
  fs::rename(bench.dir / "kit", bench.dir / "my kit");
  {
    const std::lock_guard mine(bench.served->turn);
    bench.served->phone().faults = Faults({value_of(parse_fault("refuse=flash:"))});
  }
  const test::Json stopped = program_json(
      bench.dir,
      {"flash", "my kit", "--phone", bench.address(), "--log", "it's.log", "--hands-done"}, 6);
  CHECK(stopped["error"]["code"] == "phone-refused");
  const std::string next = stopped["result"]["next"], back = stopped["result"]["back"];
  CHECK(outcome_of_step(stopped, next.substr(next.rfind(' ') + 1)) == "failed");
  const auto as_told = [&](const std::string& line) {
    REQUIRE(line.starts_with("wexlo "));
    return shell("'" + built_program() + "' " + line.substr(6), bench.dir.path().string());
  };
  const Ran on = as_told(next);
  CAPTURE(on.err);
  CHECK(on.exit_code == 0);
  CHECK(bench.init_boot() == read(bench.dir / "my kit/flash/init_boot.img"));
  bench.at_its_bootloader();
  CHECK(as_told(back).exit_code == 0);
  CHECK(bench.init_boot() == bench.images.at("init_boot"));
}

TEST_CASE("flash: a locked phone's data is not lost unasked, and hands are asked at a terminal") {
  PhoneState state;
  state.locked = true;
  PhoneBench bench(state, {"--sheet", "locked.toml"});
  const test::Json asked = bench.flash_json({"--hands-done"}, 1);
  CHECK(asked["error"]["code"] == "needs-person");
  CHECK_FALSE(fs::exists(bench.dir / "kit/flash-log.jsonl"));

  // Nobody agrees; or a stop is asked for at the question.
  std::size_t answered = 0;
  const auto once = [&](const std::string& answer) {
    answered = 0;
    return [&answered, answer](const std::string& shown) -> std::string {
      if (answered > 0 || !shown.contains("Type yes")) return {};
      ++answered;
      return answer;
    };
  };
  const Ran refused = bench.at_terminal(bench.flash_words({}), once("no\n"));
  CHECK(refused.exit_code == 1);
  CHECK(refused.out.contains("The user's data will be lost:"));
  const Ran stopped = bench.at_terminal(bench.flash_words({}), once("\x03"));
  CAPTURE(stopped.out);
  CHECK(stopped.exit_code == 130);
  CHECK_FALSE(fs::exists(bench.dir / "kit/flash-log.jsonl"));

  // Somebody agrees, unlocks, and tells what was seen.
  std::size_t hands = 0, seen = 0;
  const Ran done = bench.at_terminal(bench.flash_words({}), [&](const std::string& shown) {
    const std::string question = "Enter, or type what you see (stop ends here): ";
    if (shown.ends_with("a copy of what matters: ")) return std::string("yes\n");
    if (!shown.ends_with(question) || shown.size() == seen) return std::string();
    seen = shown.size();
    ++hands;
    const std::lock_guard mine(bench.served->turn);
    bench.served->phone().set_locked(false);
    bench.served->phone().state.mode = PhoneMode::Bootloader;
    return std::string("as it says\n");
  });
  CAPTURE(done.out);
  CHECK(done.exit_code == 0);
  CHECK(hands > 1);
  CHECK(done.out.contains("by-hand, as it says"));
  CHECK(bench.init_boot() == bench.patched());
}

TEST_CASE("flash: a stop at a question ends there: the step was not done") {
  PhoneBench bench;
  for (const std::string answer : {"\x03", "stop\n", "\x04"}) {
    bool answered = false;
    const Ran ran = bench.at_terminal(bench.flash_words({}), [&](const std::string& shown) {
      if (answered || !shown.ends_with("(stop ends here): ")) return std::string();
      answered = true;
      return answer;
    });
    CAPTURE(ran.out);
    CHECK(ran.exit_code == (answer == "\x03" ? 130 : 1));
    CHECK(ran.out.contains("nothing was written"));
    CHECK(ran.out.contains("--from ready"));
  }
  CHECK(bench.init_boot() == bench.images.at("init_boot"));
}

TEST_CASE("phones: which answer, in what mode, and which do not") {
  PhoneBench bench;
  const test::Json found = program_json(bench.dir, {"phones", bench.address()});
  const test::Json& phone = found["result"]["phones"][0];
  CHECK(phone["mode"] == "bootloader");
  CHECK(phone["serial"] == "SIMULATED1");
  CHECK(phone["product"] == "gnomon");
  CHECK(phone["lock"] == "unlocked");
  const Ran text = program(bench.dir, {"phones", bench.address()});
  CHECK(text.exit_code == 0);
  CHECK(text.out.contains("SIMULATED1"));
  const std::string nobody = "fastboot+tcp://127.0.0.1:1";
  const test::Json one = program_json(bench.dir, {"phones", bench.address(), nobody}, 6);
  CHECK(one["result"]["phones"][0]["answers"] == true);
  CHECK(one["result"]["phones"][1]["answers"] == false);
  CHECK_FALSE(one["result"]["phones"][1]["trouble"].is_null());
  const Ran said = program(bench.dir, {"phones", bench.address(), nobody});
  CHECK(said.exit_code == 6);
  CHECK(said.err.contains("not every phone"));
}

}  // namespace wexlo::test
