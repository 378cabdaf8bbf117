/// Where output goes: files, folders, standard output, a terminal. None of it harms what is there.

#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <functional>
#include <regex>

#include "demo/gnomon.hpp"
#include "program/shell.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("an output that is an input is refused by whatever name, and the input stays") {
  const Bench bench;
  const std::string stock = bench.images.at("init_boot");
  write(bench.dir / "init_boot.img", stock);
  fs::create_symlink("init_boot.img", bench.dir / "link.img");
  fs::create_directory(bench.dir / "sub");
  for (const char* out : {"init_boot.img", "link.img", "sub/../init_boot.img", "./init_boot.img"}) {
    CAPTURE(out);
    CHECK(program_json(bench.dir, {"patch", "init_boot.img", "-r", "r.toml", "--force", "-o", out},
                       2)["error"]["code"] == "usage");
    CHECK(read(bench.dir / "init_boot.img") == stock);
  }
  REQUIRE(program(bench.dir, {"patch", "init_boot.img", "-r", "r.toml", "-o", "patched.img"})
              .exit_code == 0);
  REQUIRE(program(bench.dir, {"unpack", "init_boot.img", "-o", "parts"}).exit_code == 0);
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const auto before = files_of(bench.dir.path());
  const std::vector<std::vector<std::string>> calls{
      {"restore", "patched.img", "--force", "-o", "patched.img"},
      {"restore", "patched.img", "--stock", "init_boot.img", "--force", "-o", "init_boot.img"},
      {"repack", "parts", "--force", "-o", "parts/header.bin"},
      {"unpack", "parts/header.bin", "--force", "-o", "parts"},
      {"extract", "init_boot.img", "--force", "-o", "."},
      {"draw", "init_boot.img", "--force", "-o", "init_boot.img.svg/../init_boot.img"},
      {"sheet", "--over", "sheet.toml", "--force", "-o", "sheet.toml"},
      {"keys", "show", "k.pem", "--force", "-o", "k.pem"},
      {"keys", "new", "x.pem", "--force", "-o", "x.pem"},
      {"seal", "init_boot.img", "--force", "-o", "."},
      {"insert", "ota.zip", "boot=init_boot.img", "--force", "-o", "init_boot.img"},
      {"prepare", "ota.zip", "-r", "r.toml", "--force", "-o", "r.toml"},
  };
  for (const auto& call : calls) {
    CAPTURE(call[0]);
    CAPTURE(call.back());
    const Ran ran = program(bench.dir, call);
    CAPTURE(ran.err);
    CHECK(ran.exit_code == 2);
  }
  CHECK(files_of(bench.dir.path()) == before);
  CHECK(read(bench.dir / "init_boot.img") == stock);
}

TEST_CASE("insert: a folder into itself is refused, not copied for ever") {
  const Bench bench;
  fs::create_directory(bench.dir / "fw");
  write(bench.dir / "fw/boot.img", bench.images.at("boot"));
  write(bench.dir / "new.img", bench.images.at("boot"));
  for (const char* out : {"fw/sub", "fw", "fw/../fw/sub/deep"}) {
    CAPTURE(out);
    CHECK(program_json(bench.dir, {"insert", "fw", "boot=new.img", "-o", out},
                       2)["error"]["code"] == "usage");
  }
  CHECK(files_of(bench.dir / "fw") == std::set<std::string>{"boot.img"});
}

TEST_CASE("standard output that is full or closed gives its reason and exit code 5") {
  const Bench bench;
  for (const std::string to : {"> /dev/full", ">&-"}) {
    for (const std::string form : {"", "--json"}) {
      CAPTURE(to);
      const Ran ran = in_shell(bench.dir, kWexlo + "inspect ota.zip " + form + " " + to);
      CHECK(ran.exit_code == 5);
      CHECK(ran.err.find("standard output") != std::string::npos);
    }
  }
  // A file that is opened next does not get the closed stream's number.
  const Ran ran = in_shell(bench.dir, kWexlo + "extract ota.zip boot -o out >&-");
  CHECK(ran.exit_code == 5);
  if (fs::exists(bench.dir / "out/boot.img"))
    CHECK(read(bench.dir / "out/boot.img") == bench.images.at("boot"));
}

TEST_CASE("escape sequences from names and texts never reach the terminal") {
  const TempDir dir;
  const std::string evil = "\x1b]0;owned\x07\x1b[31m";
  const std::string image =
      BootBytes{
          .version = 2,
          .kernel = arm64_kernel("5.10.1"),
          .ramdisk = gzip(
              CpioBytes{}.file("fstab." + evil, "x\n").entry("init", evil, 0100755, 0, 1).done()),
          .dtb = device_tree("Tarn" + evil, "y"),
          .cmdline = "x=" + evil,
          .name = "n\x1b[1m"}
          .done();
  write(dir / "boot.img", image);
  write(dir / ("a" + evil + ".img"), image);
  write(dir / "evil.zip", zip({{"boot.img", image},
                               {"vendor" + evil + ".img", "xxxx"},
                               {"android-info.txt", "require board=" + evil + "\n"}}));
  write(dir / "r.toml",
        "format = 1\nname = \"t\"\n[[edit]]\nkind = \"cmdline\"\nset = [\"quiet\"]\n");
  write(dir / "s.toml",
        "[phone]\ncodename = \"a\\u001B[31mb\"\n[access]\nnotes = \"\\u001B[2J\"\n");
  const std::vector<std::vector<std::string>> calls{
      {"inspect", "boot.img"},
      {"inspect", "boot.img", "--verbose"},
      {"inspect", "a" + evil + ".img"},
      {"inspect", "evil.zip"},
      {"inspect", "."},
      {"extract", "evil.zip", "--all", "-o", "out"},
      {"check", "boot.img"},
      {"check", "evil.zip"},
      {"compare", "boot.img", "evil.zip"},
      {"unpack", "boot.img", "-o", "parts"},
      {"patch", "boot.img", "-r", "r.toml", "--dry-run"},
      {"prepare", "evil.zip", "-r", "r.toml", "--sheet", "s.toml", "-o", "kit"},
      {"prepare", "evil.zip", "-r", "r.toml", "-o", "kit2"},
  };
  for (const auto& call : calls) {
    CAPTURE(call[0]);
    const Ran ran = program(dir, call);
    CHECK((ran.out + ran.err).find('\x1b') == std::string::npos);
    CHECK((ran.out + ran.err).find('\x07') == std::string::npos);
    // With colours, nothing but colours: those of files are told as text.
    auto coloured = call;
    coloured.insert(coloured.end(), {"--color", "always", "--force"});
    if (call[0] == "inspect" || call[0] == "check" || call[0] == "compare") coloured.pop_back();
    const Ran again = program(dir, coloured);
    CHECK((again.out + again.err).find("\x1b]") == std::string::npos);
    CHECK((again.out + again.err).find("\x1b[31m") == std::string::npos);
  }
  for (const char* kit : {"kit", "kit2"})
    if (fs::exists(dir / kit))
      CHECK(read(dir / (std::string(kit) + "/plan.txt")).find('\x1b') == std::string::npos);
}

TEST_CASE("demo: stopped or out of room, it leaves no half-made folder" *
          doctest::skip(watched())) {
  const TempDir dir;
  const Ran ran = in_shell(dir, "timeout --preserve-status -s INT 1 " + kWexlo + "demo made");
  if (ran.exit_code != 0) CHECK(dir.names().empty());
}

TEST_CASE("what comes back from the disk otherwise than it was written is no output" *
          doctest::skip(watched())) {
  const Bench bench;
  write(bench.dir / "system.img", file_system(2 * kMiB, "ro.z=1\n"));
  write(bench.dir / "sheet.toml", Bench::sheet("[super]\nsize = 8388608\n"));
  write(bench.dir / "init_boot.img", bench.images.at("init_boot"));
  write(bench.dir / "fw/boot.img", bench.images.at("boot"));
  REQUIRE(program(bench.dir, {"keys", "new", "k.pem", "--bits", "2048"}).exit_code == 0);
  const std::string kit =
      "prepare ota.zip -r r.toml --sheet sheet.toml --with system=system.img --wipe --accept "
      "mount-not-covered-system -o out";
  const Ran sound = in_shell(bench.dir, kWexlo + kit);
  REQUIRE_MESSAGE(sound.exit_code == 0, sound.err);
  std::vector<std::pair<std::string, std::string>> cases;
  for (const std::string& name : files_of(bench.dir / "out"))
    cases.emplace_back(kit, name);
  CHECK(cases.size() > 10);
  fs::remove_all(bench.dir / "out");
  cases.emplace_back("seal system=system.img --partition-size system=3M -o out", "system.img");
  cases.emplace_back("seal init_boot.img --key k.pem -o out", "init_boot.img");
  cases.emplace_back("insert fw boot=fw/boot.img -o out", "boot.img");
  const auto before = bench.dir.names();
  for (const auto& [call, file] : cases) {
    CAPTURE(call);
    CAPTURE(file);
    const Ran ran =
        in_shell(bench.dir, "WEXLO_DISTURB='" + fs::path(file).filename().string() +
                                "' LD_PRELOAD='" + disturbing_library() + "' " + kWexlo + call);
    CAPTURE(ran.err);
    CHECK(ran.exit_code != 0);
    CHECK(ran.exit_code < 6);
    CHECK(bench.dir.names() == before);
    fs::remove_all(bench.dir / "out");
  }
}

TEST_CASE("check KIT compares sizes, too") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  const std::string was = read(bench.dir / "kit/kit.json");
  Json manifest = Json::parse(was);
  manifest["images"][0]["flash"]["size"] = manifest["images"][0]["flash"]["size"].get<int>() + 1;
  const std::string now = manifest.dump(2);
  write(bench.dir / "kit/kit.json", now);
  std::string digests = read(bench.dir / "kit/digests.txt");
  const std::string old_sum = hex_of(sha256(was));
  REQUIRE(digests.find(old_sum) != digests.npos);
  digests.replace(digests.find(old_sum), old_sum.size(), hex_of(sha256(now)));
  write(bench.dir / "kit/digests.txt", digests);
  const Ran ran = program(bench.dir, {"check", "kit", "--json"});
  CHECK(ran.exit_code == 1);
  CHECK(says(Json::parse(ran.out), "problem:kit-file"));
}

/// What a person sees who runs it in a terminal.
std::string in_terminal(const TempDir& dir, std::vector<std::string> arguments) {
  arguments.insert(arguments.begin(), built_program());
  const Ran ran = run_in_terminal(arguments, dir.path().string());
  CHECK(ran.exit_code == 0);
  return ran.out;
}

TEST_CASE("progress: its line is gone before anything else is printed") {
  const TempDir dir;
  REQUIRE(wexlo::demo::write_gnomon(dir / "ota.zip", {.system_mib = 16}, {.jobs = 2}));
  const std::string shown = in_terminal(dir, {"check", "ota.zip"});
  CAPTURE(shown);
  CHECK(std::regex_search(shown, std::regex("\r\x1b\\[K *[0-9]+%")));
  CHECK_FALSE(std::regex_search(shown, std::regex("[0-9]%[^\r\n]*ota\\.zip")));
}

TEST_CASE("batch: its progress counts kits, not bytes") {
  const Bench bench;
  std::string jobs;
  for (const char* kit : {"one", "two", "three"})
    jobs += std::string("[[job]]\nfirmware = \"ota.zip\"\nrecipes = [\"r.toml\"]\nkit = \"") + kit +
            "\"\n";
  write(bench.dir / "jobs.toml", jobs);
  const std::string shown = in_terminal(bench.dir, {"batch", "jobs.toml", "--no-cache"});
  CAPTURE(shown);
  CHECK(shown.find("1 of 3 done") != std::string::npos);
  CHECK(shown.find("/s  ") == std::string::npos);
}
