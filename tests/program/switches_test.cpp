/// Switches that every command has, and values that are read strictly.

#include "program/bench.hpp"

using namespace wexlo::test;

namespace {

bool has(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

}  // namespace

TEST_CASE("--quiet leaves notes out, and warnings in") {
  const Bench bench;
  const std::vector<std::string> call{"prepare", "ota.zip",    "-r",       "r.toml",
                                      "-r",      "flags.toml", "--sheet",  "sheet.toml",
                                      "-o",      "kit",        "--dry-run"};
  const std::string plain = program(bench.dir, call).out;
  REQUIRE(has(plain, "\nnote: "));
  REQUIRE(has(plain, "\nwarning: "));
  auto quiet_call = call;
  quiet_call.emplace_back("--quiet");
  const Ran quiet = program(bench.dir, quiet_call);
  CHECK(quiet.exit_code == 0);
  CHECK_FALSE(has(quiet.out, "note: "));
  CHECK(has(quiet.out, "warning: "));
}

TEST_CASE("jobs: as many as are taken, and one more, in settings, environment and option") {
  const Bench bench;
  const auto with_setting = [&](const std::string& jobs) {
    write(bench.dir / "s.toml", "jobs = " + jobs + "\n");
    return program(bench.dir, {"inspect", "ota.zip", "--config", "s.toml"}).exit_code;
  };
  CHECK(with_setting("1") == 0);
  CHECK(with_setting("256") == 0);
  CHECK(with_setting("257") == 3);
  CHECK(with_setting("0") == 3);
  const std::vector<std::string> command{built_program(), "inspect", "ota.zip"};
  CHECK(run(command, bench.dir.path().string(), {"WEXLO_JOBS=256"}).exit_code == 0);
  CHECK(run(command, bench.dir.path().string(), {"WEXLO_JOBS=257"}).exit_code == 2);
  CHECK(run(command, bench.dir.path().string(), {"WEXLO_JOBS=0"}).exit_code == 2);
  CHECK(program(bench.dir, {"inspect", "ota.zip", "--jobs", "256"}).exit_code == 0);
  CHECK(program(bench.dir, {"inspect", "ota.zip", "--jobs", "257"}).exit_code == 2);
}

TEST_CASE("prepare: what differs is told with its reason, what is unknown is a row alone") {
  const Bench bench;
  write(bench.dir / "s.toml", "[phone]\ncodename = \"another\"\n");
  const std::vector<std::string> call{"prepare", "ota.zip", "-r",  "r.toml",   "--sheet",
                                      "s.toml",  "-o",      "kit", "--dry-run"};
  const std::string text = program(bench.dir, call).out + program(bench.dir, call).err;
  auto json_call = call;
  json_call.emplace_back("--json");
  const Json rows = Json::parse(program(bench.dir, json_call).out)["result"]["fit"];
  int unknown = 0, differs = 0;
  for (const Json& row : rows) {
    const std::string what = row["what"];
    CAPTURE(what);
    const bool told = has(text, "\n  " + what + ": ") || has(text, "\n  " + what + " [");
    CHECK(told == (row["verdict"] == "differs"));
    ++(row["verdict"] == "differs" ? differs : unknown);
  }
  CHECK(differs > 0);
  CHECK(unknown > 0);
}

TEST_CASE("seal --salt: whole bytes of hex") {
  const TempDir dir;
  write(dir / "boot.img", noise(9000));
  const auto sealed = [&](const std::string& salt) {
    return program(dir, {"seal", "boot.img", "-o", "out.img", "--force", "--footer", "hash",
                         "--partition-size", "65536", "--salt", salt})
        .exit_code;
  };
  CHECK(sealed("00ff") == 0);
  CHECK(sealed(std::string(512, 'a')) == 0);
  for (const std::string& bad : {std::string("0"), std::string("0g"), std::string("g0"),
                                 std::string("-1"), std::string(514, 'a')}) {
    CAPTURE(bad);
    CHECK(sealed(bad) == 2);
  }
}
