/// What a simulated phone shows of a start, and how it fails when it is told to.

#include "phone/simulated/start_shows.hpp"
#include "observed/observed.hpp"
#include "support/patching.hpp"
#include "support/start_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Observed read_start(const PoweredOn& started) {
  Observed out;
  read_observed(saved_text(started), "observed.txt", out);
  return out;
}

bool has_sign(const Observed& seen, LogSign sign) {
  return std::ranges::any_of(seen.signs, [&](const SeenSign& one) { return one.sign == sign; });
}

std::string value_of_fact(const Observed& seen, Fact fact) {
  const Seen* one = seen.find(fact);
  return one == nullptr ? "" : one->value;
}

}  // namespace

TEST_CASE("shows: a start that comes up says all that it is, and every line of it is known") {
  OnBench bench{StockPhone{}};
  const PoweredOn started = bench.start();
  REQUIRE(started.starts());
  CHECK_FALSE(started.symptom);
  const Observed seen = read_start(started);
  CHECK(seen.ignored.empty());
  CHECK(seen.signs.empty());
  CHECK(value_of_fact(seen, Fact::Started) == "yes");
  CHECK(value_of_fact(seen, Fact::Slot) == "a");
  CHECK(value_of_fact(seen, Fact::Device) == "gnomon");
  CHECK(value_of_fact(seen, Fact::VerifiedState) == "orange");
  CHECK(value_of_fact(seen, Fact::Data) == "kept");
  // The loader hands the boot configuration on.
  CHECK(seen.words.at("androidboot.hardware").value == "gnomon");
  bench.phone->state.locked = true;
  bench.phone->wipe_data();
  const Observed locked = read_start(bench.start());
  CHECK(value_of_fact(locked, Fact::VerifiedState) == "green");
  CHECK(value_of_fact(locked, Fact::Lock) == "locked");
  CHECK(value_of_fact(locked, Fact::Data) == "new");
  CHECK(value_of_fact(locked, Fact::SetUp) == "no");
}

TEST_CASE(
    "shows: told to fail, it fails in that way, and its log says nothing that contradicts it") {
  for (const SymptomRow& row : symptom_rows()) {
    CAPTURE(row.word);
    OnBench bench{StockPhone{}};
    bench.phone->faults = Faults({value_of(parse_fault("start=" + std::string(row.word)))});
    const PoweredOn started = bench.start();
    const Observed seen = read_start(started);
    for (const auto& [fact, ignored] : seen.facts)
      CHECK_FALSE(seen.conflict(fact));
    const bool of_writes =
        row.symptom == Symptom::RefusesWrite || row.symptom == Symptom::RefusesUpdate;
    if (of_writes) {
      CHECK(started.starts());
      continue;
    }
    CHECK(started.cause == StartCause::AsTold);
    CHECK(started.symptom == row.symptom);
    CHECK((value_of_fact(seen, Fact::Started) == "yes") == started.starts());
    if (row.symptom == Symptom::StaysInBootloader)
      CHECK(value_of_fact(seen, Fact::Mode) == "bootloader");
    if (row.symptom == Symptom::LoopsAtOnce) CHECK_FALSE(seen.signs.empty());
    if (row.symptom == Symptom::AsksToErase) CHECK(has_sign(seen, LogSign::DataKeys));
    if (row.symptom == Symptom::PartsDead) CHECK(has_sign(seen, LogSign::ModuleVersion));
    if (row.symptom == Symptom::RecoveryInstead)
      CHECK(value_of_fact(seen, Fact::Mode) == "recovery");
  }
}

TEST_CASE("shows: a phone that refuses writes, and one that refuses updates") {
  OnBench bench{StockPhone{}};
  bench.phone->faults = Faults({value_of(parse_fault("start=refuses-write"))});
  const SourcePtr image = bench.stock_images.at("boot");
  for (int i = 0; i < 2; ++i) {
    const Status done = bench.phone->flash("boot_a", {"", image->size(), "", image});
    REQUIRE_FALSE(done);
    CHECK(done.error().code == ErrorCode::PhoneRefused);
  }
  CHECK_FALSE(parse_fault("start=loops"));
  CHECK_FALSE(parse_fault("start"));
}

TEST_CASE("shows: what a kernel says before it gives up is told by what is wrong") {
  const auto shown = [](const StockPhone& other) {
    OnBench bench{StockPhone{}};
    bench.write("init_boot_a", other.images().at("init_boot"));
    return read_start(bench.start());
  };
  StockPhone mode;
  mode.parts.generic = CpioBytes{}.entry("init", elf("arm64", "x"), 0100644, 0, 1);
  CHECK(has_sign(shown(mode), LogSign::InitMode));
  StockPhone none;
  none.parts.generic = CpioBytes{}.folder("dev");
  CHECK(has_sign(shown(none), LogSign::NoInit));
}
