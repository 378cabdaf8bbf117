/// Did it take? What a phone shows after a flash, held against its kit.

#include "job/confirm.hpp"
#include "flash/bench_phone.hpp"
#include "flash/kit_phone.hpp"
#include "flash/simulated_hands.hpp"
#include "job/rehearse.hpp"
#include "program/bench.hpp"
#include "support/plan_phone.hpp"

namespace wexlo::test {
namespace fs = std::filesystem;
namespace {

const std::string kShowing =
    "format = 1\nname = \"shows\"\nshows = [\"tide bench: up\"]\n[[edit]]\nkind = \"put\"\n"
    "path = \"init\"\nfrom = \"hello\"\nmode = 0o750\nkeep_stock = true\n";

Observed read_lines(const std::vector<std::string>& lines) {
  std::string text;
  for (const std::string& line : lines)
    text += line + "\n";
  Observed out;
  read_observed(text, "phone.txt", out);
  return out;
}

/// What a phone shows on which the kit was rehearsed: its start's log, and what could be saved.
std::vector<std::string> shown(const Rehearsal& rehearsal) {
  std::vector<std::string> out = rehearsal.boot_log;
  out.insert(out.end(), rehearsal.shows.begin(), rehearsal.shows.end());
  return out;
}

std::string rows_of(const Confirmed& confirmed) {
  std::string out;
  for (const RecordRow& row : confirmed.rows)
    out +=
        row.what + ": " + std::string(row_verdict_word(row.verdict)) + " (" + row.observed + ")\n";
  return out;
}

/// Cut away one by one, and by chance: the verdict is the same or cannot be told.
void check_weakens(const Expected& expected, const std::vector<std::string>& lines) {
  const Took whole = confirm(expected, read_lines(lines)).verdict;
  for (std::size_t i = 0; i < lines.size(); ++i) {
    std::vector<std::string> less = lines;
    less.erase(less.begin() + static_cast<std::ptrdiff_t>(i));
    const Confirmed now = confirm(expected, read_lines(less));
    CAPTURE(lines[i]);
    CHECK((now.verdict == whole || now.verdict == Took::CannotTell));
    // Of another phone nothing is asked.
    if (now.verdict != whole) CHECK_FALSE(now.ask.empty());
  }
  Random random(9);
  for (int round = 0; round < 200; ++round) {
    std::vector<std::string> less;
    for (const std::string& line : lines)
      if (random() % 4 != 0) less.push_back(line);
    const Took now = confirm(expected, read_lines(less)).verdict;
    CHECK((now == whole || now == Took::CannotTell));
  }
}

/// What a command says that found something: exit code 1, and no error.
Json found(const TempDir& dir, const std::vector<std::string>& words) {
  std::vector<std::string> all{"--json"};
  all.insert(all.end(), words.begin(), words.end());
  const auto ran = program(dir, all);
  CHECK(ran.exit_code == 1);
  return Json::parse(ran.out);
}

struct Prepared {
  explicit Prepared(const std::vector<std::string>& more = {"-r", "shows.toml", "-r",
                                                            "flags.toml"}) {
    // Images that say of which build they are, as real ones do.
    const auto of_build = [](const std::string& image, const std::string& name) {
      return image_of_build(image, name, kBuild, "2026-09-05", 1u << 18);
    };
    bench.images["boot"] = of_build(BootBytes{.kernel = arm64_kernel("5.10.1")}.done(), "boot");
    bench.images["init_boot"] =
        of_build(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), "init_boot");
    write(bench.dir / "ota.zip", bench.ota());
    write(bench.dir / "shows.toml", kShowing);
    REQUIRE(bench.prepare(more)["ok"] == true);
    kit.emplace(value_of(Kit::open(bench.dir / "kit")));
  }
  [[nodiscard]] Expected expected() const { return value_of(expected_of_kit(*kit, {}, {}, {})); }
  [[nodiscard]] std::vector<std::string> after() const {
    return shown(value_of(rehearse_kit(*kit, {.firmware = bench.dir / "ota.zip"}, {})));
  }
  Bench bench;
  std::optional<Kit> kit;
};

}  // namespace

TEST_CASE("confirm: the simulated phone's log after a plan: took, and less of it is never more") {
  const Prepared one;
  const std::vector<std::string> lines = one.after();
  const Confirmed confirmed = confirm(one.expected(), read_lines(lines));
  CAPTURE(rows_of(confirmed));
  CHECK(confirmed.verdict == Took::Yes);
  CHECK(confirmed.ask.empty());
  check_weakens(one.expected(), lines);
  CHECK(confirm(one.expected(), {}).verdict == Took::CannotTell);
}

TEST_CASE("confirm: what was put in and still shows after the way back is told") {
  const Prepared one;
  Expected back = one.expected();
  back.stock = true;
  std::vector<std::string> lines = one.after();
  std::erase_if(lines,
                [](const std::string& line) { return line.find("tide bench: up") != line.npos; });
  const Confirmed gone = confirm(back, read_lines(lines));
  CAPTURE(rows_of(gone));
  CHECK(gone.verdict == Took::Yes);
  lines.emplace_back("[    1.234567] tide bench: up");
  const Confirmed there = confirm(back, read_lines(lines));
  CAPTURE(rows_of(there));
  CHECK(there.verdict == Took::CannotTell);
  CHECK(there.reason.starts_with("Program is not as planned"));
  // Alone with the phone's name it says enough.
  CHECK(confirm(back, read_lines({"[ro.product.device]: [gnomon]", lines.back()})).verdict ==
        Took::No);
}

TEST_CASE("confirm: after what did not go as planned it is never told as taken") {
  const Prepared one;
  const Plan plan = value_of(one.kit->plan());
  const auto open = [&](const std::string& name) { return one.kit->file(name); };
  std::map<std::string, SourcePtr> stock;
  for (const auto& [name, bytes] : one.bench.images)
    if (name != "system" && name != "product") stock.emplace(name, open_memory(blob(bytes), name));
  const KitManifest& manifest = one.kit->manifest();
  const KitPhoneInput input{.device = "gnomon",
                            .patch_level = "2026-09-05",
                            .plan = plan,
                            .images = manifest.images,
                            .chain = {"boot", "init_boot", "vendor_boot"},
                            .stock = stock};
  using Change = std::function<void(SimulatedPhone&)>;
  const auto put_back = [&](SimulatedPhone& phone, const std::string& name) {
    REQUIRE(phone.replace(name + "_a", stock.at(name)));
  };
  const std::vector<std::pair<std::string, Change>> cases{
      {"the patched image was not written", [&](auto& phone) { put_back(phone, "init_boot"); }},
      {"verification stayed on", [&](auto& phone) { put_back(phone, "vbmeta"); }},
      {"the other slot starts", [](auto& phone) { phone.state.slot = "b"; }},
      {"locked again", [](auto& phone) { phone.state.locked = true; }},
      {"the data was erased", [](auto& phone) { phone.wipe_data(); }},
      {"another device", [](auto& phone) { phone.state.product = "vernier"; }},
      {"an image that does not unpack",
       [&](auto& phone) {
         REQUIRE(phone.replace("init_boot_a",
                               open_memory(blob(BootBytes{.ramdisk = "no ramdisk"}.done()), "x")));
       }},
      {"no boot image",
       [](auto& phone) {
         REQUIRE(phone.replace("boot_a", open_memory(blob(std::string(4096, 'x')), "x")));
       }},
      {"a newer patch level's data", [](auto& phone) { phone.state.data.bound_to = "2026-11"; }},
  };
  for (int symptom = -1; symptom < static_cast<int>(symptom_rows().size()); ++symptom)
    for (const auto& [name, change] : cases) {
      // Each change by itself; each symptom once.
      if (symptom >= 0 && name != cases.front().first) continue;
      std::vector<Fault> faults;
      if (symptom >= 0) {
        const SymptomRow& row = symptom_rows()[static_cast<std::size_t>(symptom)];
        if (row.symptom == Symptom::WarnsAndStarts || row.symptom == Symptom::PartsDead ||
            row.symptom == Symptom::RefusesUpdate || row.symptom == Symptom::RefusesWrite)
          continue;
        faults.push_back(value_of(parse_fault("start=" + std::string(row.word))));
      }
      CAPTURE(symptom);
      CAPTURE(name);
      const auto phone = value_of(make_kit_phone(input, Faults(faults), {}));
      const StockStatePtr known = value_of(StockState::of(*phone));
      take_in_hand(*phone, *known);
      SimulatedHands hands(*phone, {.kit = open, .stock = {}, .package = {}, .instead = {}});
      const Played played = play(plan.steps, *phone, hands, open);
      REQUIRE_FALSE(played.error);
      if (symptom < 0) change(*phone);
      PoweredOn started = value_of(power_on(*phone, known));
      std::vector<std::string> lines = started.log;
      lines.insert(lines.end(), started.shows.begin(), started.shows.end());
      const Confirmed confirmed = confirm(one.expected(), read_lines(lines));
      CAPTURE(rows_of(confirmed));
      if (name == "verification stayed on" && symptom < 0)
        // An unlocked phone starts it, and its log says nothing else.
        CHECK(started.verdict == StartVerdict::StartsWithWarning);
      else
        CHECK(confirmed.verdict != Took::Yes);
      check_weakens(one.expected(), lines);
    }
}

TEST_CASE("confirm: the demo's phones, each after its plan") {
  const TempDir dir;
  REQUIRE(program(dir, {"demo", "demo", "--all"}).exit_code == 0);
  const Json list = program_json(dir, {"confirm", "--list", "demo"});
  REQUIRE(list["result"]["entries"].size() == 2);
  CHECK(list["result"]["entries"][0]["done"].get<std::string>().starts_with("the plan, "));
  CHECK(list["result"]["entries"][1]["done"].get<std::string>().starts_with("the way back, "));
  // The last run of this kit is its way back: what was put in is not to be seen any more.
  write(dir / "late.txt", "[    1.234567] wexlo add-on: started before the stock init\n");
  const Json late = found(dir, {"confirm", "demo/kit", "late.txt"});
  CHECK(late["result"]["rows"].dump().find("nothing of what was put in") != std::string::npos);
  std::size_t seen = 0;
  for (const auto& entry : fs::recursive_directory_iterator(dir / "demo")) {
    if (entry.path().filename() != "kit.json") continue;
    const fs::path folder = entry.path().parent_path();
    CAPTURE(folder.filename().string());
    fs::remove(folder / "flash-log.jsonl");
    const Kit kit = value_of(Kit::open(folder));
    const Rehearsal rehearsal = value_of(rehearse_kit(kit, {}, {}));
    if (rehearsal.stops()) continue;
    ++seen;
    const Confirmed confirmed =
        confirm(value_of(expected_of_kit(kit, {}, {}, {})), read_lines(shown(rehearsal)));
    CAPTURE(rows_of(confirmed));
    CHECK(confirmed.verdict == Took::Yes);
  }
  CHECK(seen >= 3);
}

TEST_CASE("confirm: the record is appended, and a changed past is found") {
  const Prepared one;
  const fs::path folder = one.bench.dir / "kit";
  std::string text;
  for (const std::string& line : one.after())
    text += line + "\n";
  write(one.bench.dir / "phone.txt", text);
  REQUIRE(program(one.bench.dir, {"keys", "new", "--bench", "bench.pem"}).exit_code == 0);
  const Json first = program_json(one.bench.dir, {"confirm", "kit", "phone.txt"});
  CHECK(first["result"]["verdict"] == "took");
  const std::string before = read(folder / "record.toml");
  write(one.bench.dir / "less.txt", text.substr(0, text.size() / 2));
  const Json second = found(one.bench.dir, {"confirm", "kit", "less.txt", "--sign", "bench.pem"});
  CHECK(second["result"]["verdict"] == "cannot-tell");
  CHECK_FALSE(second["result"]["ask"].empty());
  const std::string after = read(folder / "record.toml");
  CHECK(after.starts_with(before));
  CHECK(program(one.bench.dir, {"check", "kit"}).exit_code == 0);
  const Record record = value_of(read_record(folder));
  REQUIRE(record.entries.size() == 2);
  CHECK(record.entries[0].key.empty());
  CHECK(record.entries[1].is_signed);
  CHECK(judge_record(record).empty());
  // The report keeps what it was, with the record's page behind it.
  const std::string report = read(folder / "report.html");
  CHECK(report.find("id=\"record\"") != std::string::npos);

  const auto is_found = [&](const std::string& changed, const char* where) {
    CAPTURE(where);
    write(folder / "record.toml", changed);
    const Json said = found(one.bench.dir, {"check", "kit"});
    CHECK(codes(said).find("problem:record-changed") != std::string::npos);
    write(folder / "record.toml", after);
  };
  const auto with = [&](const std::string& from, const std::string& to) {
    std::string out = after;
    const std::size_t at = out.find(from);
    REQUIRE(at != std::string::npos);
    return out.replace(at, from.size(), to);
  };
  is_found(with("verdict = \"took\"", "verdict = \"in-part\""), "a verdict");
  is_found(with("wexlo = \"", "wexlo = \"9"), "a version");
  is_found(with("[[entry]]", "[[entry]] # x"), "a line");
  is_found(after.substr(0, before.size()), "the last entry is gone");
  // The first is gone.
  const std::size_t begin = after.find("[[entry]]"), next = after.find("[[entry]]", begin + 1);
  is_found(after.substr(0, begin) + after.substr(next), "the first entry is gone");
  // Nothing is put behind a record that was changed.
  write(folder / "record.toml", with("verdict = \"took\"", "verdict = \"in-part\""));
  CHECK(program(one.bench.dir, {"confirm", "kit", "phone.txt"}).exit_code == 3);
  write(folder / "record.toml", after);
  write(folder / "report.html", report.substr(0, report.find("id=\"record\"")) + "X" +
                                    report.substr(report.find("id=\"record\"")));
  CHECK(program(one.bench.dir, {"check", "kit"}).exit_code == 1);
  write(folder / "report.html", report);
  CHECK(program(one.bench.dir, {"check", "kit"}).exit_code == 0);

  const Json list = program_json(one.bench.dir, {"confirm", "--list", "."});
  REQUIRE(list["result"]["entries"].size() == 2);
  CHECK(list["result"]["entries"][0]["verdict"] == "took");
  CHECK(list["result"]["entries"][1]["signed"] == "yes");
  // No log tells what was done to this phone.
  CHECK(list["result"]["entries"][0]["done"] == "");
  const std::string csv = program(one.bench.dir, {"confirm", "--list", ".", "--csv"}).out;
  CHECK(csv.starts_with("time,verdict,serial"));
  CHECK_FALSE(csv.contains('\\'));
  CHECK(std::ranges::count(csv, '\n') == 3);
}

}  // namespace wexlo::test
