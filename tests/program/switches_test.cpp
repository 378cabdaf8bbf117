/// Switches that every command has, and values that are read strictly.

#include "program/bench.hpp"

using namespace wexlo::test;

namespace {

bool has(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

/// The exit code of a seal with that value of an option.
int sealed_with(const std::string& option, const std::string& value) {
  const TempDir dir;
  write(dir / "boot.img", noise(9000));
  return program(dir, {"seal", "boot.img", "-o", "out.img", "--footer", "hash", "--partition-size",
                       "65536", option, value})
      .exit_code;
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

TEST_CASE("seal --rollback: a whole number") {
  const auto sealed = [](const std::string& index) { return sealed_with("--rollback", index); };
  CHECK(sealed("12") == 0);
  CHECK(sealed("18446744073709551615") == 0);
  for (const char* bad : {"12x", "x", "-1", "18446744073709551616", "0x1f"}) {
    CAPTURE(bad);
    CHECK(sealed(bad) == 2);
  }
}

TEST_CASE("extract --quick: no digest that nothing is held against") {
  const TempDir dir;
  write(dir / "x.zip", zip({{"boot.img", BootBytes{.kernel = noise(5000)}.done()}}));
  const auto digest = [&](std::vector<std::string> more) {
    more.insert(more.begin(), {"extract", "x.zip", "boot", "-o", "out", "--force"});
    return program_json(dir, more)["result"]["partitions"][0]["sha256"];
  };
  CHECK(digest({}).is_string());
  CHECK(digest({"--quick"}).is_null());
}

TEST_CASE("check: an image whose name says nothing is told by what it holds") {
  const TempDir dir;
  write(dir / "2.bin", BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done());
  write(dir / "3.bin",
        BootBytes{.kernel = arm64_kernel("5.10.1"), .ramdisk = lz4_legacy(init_ramdisk())}.done());
  const auto told = [&](const std::string& name) {
    return program_json(dir, {"check", name})["result"]["partitions"][0]["name"];
  };
  CHECK(told("2.bin") == "init_boot");
  CHECK(told("3.bin") == "boot");
}

TEST_CASE("seal --salt: whole bytes of hex") {
  const auto sealed = [](const std::string& salt) { return sealed_with("--salt", salt); };
  CHECK(sealed("00ff") == 0);
  CHECK(sealed(std::string(512, 'a')) == 0);
  for (const std::string& bad : {std::string("0"), std::string("0g"), std::string("g0"),
                                 std::string("-1"), std::string(514, 'a')}) {
    CAPTURE(bad);
    CHECK(sealed(bad) == 2);
  }
}

TEST_CASE("prepare --key: a patch so large that the struct behind the image moves") {
  const Bench bench;
  write(bench.dir / "hello", elf("arm64", noise(30'000)));
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const Json done = bench.prepare({"-r", "r.toml", "--key", "k.pem"});
  CHECK(done["result"]["verification"]["locked"] == "starts");
  const auto struct_at = [&](const std::string& name) {
    return program_json(
               bench.dir,
               {"inspect",
                "kit/" + name +
                    "/init_boot.img"})["result"]["items"][0]["image"]["footer"]["vbmeta_offset"]
        .get<int>();
  };
  CHECK(struct_at("flash") > struct_at("stock"));
}

TEST_CASE("prepare --key: an image without a footer gets one, accounted for from its first byte") {
  Bench bench;
  bench.images["init_boot"] =
      padded(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), 1u << 18);
  write(bench.dir / "ota.zip", bench.ota());
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const Json done = bench.prepare({"-r", "r.toml", "--key", "k.pem", "--sheet", "sheet.toml"});
  CHECK(done["result"]["verification"]["locked"] == "starts");
  // Without the sheet nobody knows where it goes: said in prepare's own words.
  const Json error = bench.prepare({"-r", "r.toml", "--key", "k.pem"}, 2, "none")["error"];
  CHECK(error["code"] == "usage");
  CHECK(error["hint"].get<std::string>().contains("--sheet"));
}

TEST_CASE(
    "prepare --key: an image shorter than its partition, of no whole blocks, grows by zeros") {
  Bench bench;
  bench.images["init_boot"] = BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done() + "tail";
  REQUIRE(bench.images["init_boot"].size() % 4096 != 0);
  write(bench.dir / "ota.zip", bench.ota());
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const Json done = bench.prepare({"-r", "r.toml", "--key", "k.pem", "--sheet", "sheet.toml"});
  CHECK(done["result"]["verification"]["locked"] == "starts");
  // Every byte of the grown image is accounted for, once.
  for (const Json& image : done["result"]["images"]) {
    std::uint64_t end = 0;
    for (const Json& range : image["ranges"]) {
      CHECK(range["offset"].get<std::uint64_t>() >= end);
      end = range["offset"].get<std::uint64_t>() + range["size"].get<std::uint64_t>();
    }
    if (image["partition"] == "init_boot") CHECK(end == 1u << 18);
  }
}

TEST_CASE("check --against: how alike two ramdisks have to be to be of one build") {
  const TempDir dir;
  const auto image = [](int fresh) {
    CpioBytes files;
    for (int i = 0; i < 10; ++i) {
      const std::uint32_t seed = 10 + static_cast<std::uint32_t>(i < fresh ? i + 100 : i);
      files.entry(i == 0 ? "init" : "f" + std::to_string(i), elf("arm64", noise(900, seed)),
                  0100750, 0, 1);
    }
    return BootBytes{.ramdisk = gzip(files.done()), .cmdline = ""}.done();
  };
  write(dir / "fw.zip", zip({{"init_boot.img", image(0)}}));
  const auto build = [&](int fresh) {
    write(dir / "init_boot.img", image(fresh));
    const Ran ran = program(dir, {"check", "init_boot.img", "--against", "fw.zip", "--json"});
    return Json::parse(ran.out)["result"]["against"][0]["build"].get<std::string>();
  };
  CHECK(build(3) == "same");
  CHECK(build(4) == "unknown");
  CHECK(build(5) == "unknown");
  CHECK(build(6) == "other");
}

TEST_CASE("inspect: the heads of so many partitions are looked at, and no more") {
  const TempDir dir;
  std::vector<Member> members;
  for (int i = 100; i < 173; ++i)
    members.push_back({"p" + std::to_string(i) + ".img", BootBytes{.kernel = noise(900)}.done()});
  write(dir / "fw.zip", zip(members));
  const Json all = program_json(dir, {"inspect", "fw.zip"})["result"]["items"][0]["partitions"];
  REQUIRE(all.size() == 73);
  int told = 0;
  for (const Json& one : all)
    told += one["kind"] == "boot" ? 1 : 0;
  CHECK(told == 72);
}
