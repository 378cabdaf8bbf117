/// What the program asks of the disk, in which order, and what is there when it is killed in
/// between.

#include <signal.h>

#include <algorithm>
#include <map>
#include <set>
#include <sstream>

#include "kit/folder/kit.hpp"
#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

struct DiskBench {
  DiskBench() {
    const std::string ramdisk =
        lz4_legacy(CpioBytes{}
                       .entry("init", elf("arm64", noise(30000)), 0100750, 0, 1)
                       .file("data", noise(20000, 2))
                       .done());
    PayloadBytes payload;
    payload.partitions = {
        partition_of(
            "boot",
            with_footer(BootBytes{.kernel = arm64_kernel("5.10.1")}.done(), "boot", 1u << 20), 8,
            64),
        partition_of("init_boot",
                     with_footer(BootBytes{.ramdisk = ramdisk}.done(), "init_boot", 2u << 20), 8,
                     64),
        partition_of("vbmeta", padded(vbmeta(property_descriptor("a", "b")), 4096), 0)};
    write(
        dir / "in/ota.zip",
        zip({{"META-INF/com/android/metadata", "post-build=korvale/gnomon/x\npre-device=gnomon\n"},
             {"payload.bin", payload.done()}}));
    write(dir / "in/hello", elf("arm64", "the add-on"));
    write(dir / "in/sheet.toml", "[phone]\ncodename = \"gnomon\"\n");
    write(dir / "in/r.toml",
          "format = 1\nname = \"tests\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = "
          "\"hello\"\n"
          "keep_stock = true\n[[edit]]\nkind = \"vbmeta-flags\"\nset = "
          "[\"verification-disabled\"]\n");
  }
  [[nodiscard]] std::string inputs() const {
    return shell("cd in && find . -type f | sort | xargs sha256sum", dir.path().string()).out;
  }
  /// The program, with the library between it and the disk.
  [[nodiscard]] Ran disturbed(std::vector<std::string> arguments,
                              std::vector<std::string> environment) const {
    arguments.insert(arguments.begin(), built_program());
    environment.insert(environment.end(), {"XDG_CONFIG_HOME=/nonexistent", "NO_COLOR=1",
                                           "LD_PRELOAD=" + disturbing_library()});
    return run(arguments, dir.path().string(), environment);
  }
  /// What was asked of the disk, with the temporary name as TMP.
  [[nodiscard]] std::vector<std::string> record(const std::vector<std::string>& arguments) const {
    const Ran ran = disturbed(arguments, {"WEXLO_RECORD=" + (dir / "record").string()});
    REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
    std::vector<std::string> out;
    std::istringstream in(read(dir / "record"));
    for (std::string line; std::getline(in, line);)
      out.push_back(line);
    fs::remove(dir / "record");
    return out;
  }
  const std::vector<std::string> prepare{"prepare",   "in/ota.zip", "-r",
                                         "in/r.toml", "--sheet",    "in/sheet.toml",
                                         "-o",        "kit",        "--force"};
  TempDir dir;
};

std::size_t first(const std::vector<std::string>& lines, const std::string& start,
                  std::size_t from = 0) {
  for (std::size_t i = from; i < lines.size(); ++i)
    if (lines[i].starts_with(start)) return i;
  return std::string::npos;
}

/// The one rename of the record: its place, what it renames and to which name.
struct Renamed {
  std::size_t at = 0;
  std::string from, to;
};
Renamed renamed(const std::vector<std::string>& lines) {
  Renamed out{first(lines, "rename "), {}, {}};
  REQUIRE(out.at < lines.size());
  CHECK(first(lines, "rename ", out.at + 1) == std::string::npos);
  std::istringstream words(lines[out.at]);
  std::string word;
  words >> word >> out.from >> out.to;
  return out;
}

/// Each file below `folder`, and where in the record it was written last.
std::map<std::string, std::size_t> files_written(const std::vector<std::string>& lines,
                                                 const std::string& folder) {
  std::map<std::string, std::size_t> out;
  for (std::size_t i = 0; i < lines.size(); ++i)
    if (lines[i].starts_with("write ") && lines[i].contains(folder)) out[lines[i].substr(6)] = i;
  return out;
}

std::map<std::string, std::string> contents(const fs::path& folder) {
  std::map<std::string, std::string> out;
  for (const auto& entry : fs::recursive_directory_iterator(folder))
    if (entry.is_regular_file())
      out[fs::relative(entry.path(), folder).string()] = read(entry.path());
  return out;
}

/// False: absent. A half one fails the test.
bool is_whole(const fs::path& kit) {
  if (!fs::exists(kit)) return false;
  REQUIRE(fs::exists(kit / "kit.json"));
  const auto state = wexlo::verify_kit(kit, {});
  REQUIRE(state);
  CHECK(state->findings.empty());
  CHECK(state->files > 8);
  return true;
}

}  // namespace

TEST_CASE("output: a file is flushed, then it gets its name, then the folder is flushed" *
          doctest::skip(watched())) {
  const DiskBench bench;
  REQUIRE(program(bench.dir, {"extract", "in/ota.zip", "init_boot", "-o", "images"}).exit_code ==
          0);
  for (const bool over : {false, true}) {
    CAPTURE(over);
    const auto lines = bench.record(
        {"patch", "images/init_boot.img", "-r", "in/r.toml", "-o", "out.img", "--force"});
    const Renamed seen = renamed(lines);
    CHECK(fs::path(seen.to).filename() == "out.img");
    const auto written = files_written(lines, fs::path(seen.from).filename().string());
    REQUIRE(written.size() == 1);
    const std::size_t flushed = first(lines, "flush " + written.begin()->first);
    CHECK(written.begin()->second < flushed);
    CHECK(flushed < seen.at);
    CHECK(first(lines, "flush " + bench.dir.path().string(), seen.at) == seen.at + 1);
  }
}

TEST_CASE("output: each file of a folder is flushed, then it gets its name, then what it is in" *
          doctest::skip(watched())) {
  const DiskBench bench;
  for (const bool over : {false, true}) {
    CAPTURE(over);
    const auto lines = bench.record(bench.prepare);
    const Renamed seen = renamed(lines);
    CHECK(fs::path(seen.to).filename() == "kit");
    const auto written = files_written(lines, fs::path(seen.from).filename().string());
    CHECK(written.size() == contents(bench.dir / "kit").size());
    for (const auto& [file, last] : written) {
      CAPTURE(file);
      const std::size_t flushed = first(lines, "flush " + file, last);
      CHECK(flushed < seen.at);
    }
    CHECK(first(lines, "flush " + bench.dir.path().string(), seen.at) == seen.at + 1);
  }
}

TEST_CASE("output: a folder of many files is flushed as a whole before it gets its name" *
          doctest::skip(watched())) {
  const DiskBench bench;
  CpioBytes many;
  for (int i = 0; i < 80; ++i)
    many.file("file" + std::to_string(i), std::to_string(i));
  write(bench.dir / "init_boot.img", BootBytes{.ramdisk = lz4_legacy(many.done())}.done());
  const auto lines = bench.record({"unpack", "init_boot.img", "-o", "parts"});
  const Renamed seen = renamed(lines);
  const auto written = files_written(lines, fs::path(seen.from).filename().string());
  CHECK(written.size() > 80);
  const std::size_t flushed = first(lines, "flush-all ");
  CHECK(flushed < seen.at);
  for (const auto& [file, last] : written)
    CHECK(last < flushed);
  CHECK(first(lines, "flush " + bench.dir.path().string(), seen.at) == seen.at + 1);
}

TEST_CASE("output: a disk that takes half of what is written at once gets the rest" *
          doctest::skip(watched())) {
  const DiskBench bench;
  REQUIRE(program(bench.dir, bench.prepare).exit_code == 0);
  const auto wanted = contents(bench.dir / "kit");
  CHECK(wanted.size() > 8);
  fs::remove_all(bench.dir / "kit");
  const Ran ran = bench.disturbed(bench.prepare, {"WEXLO_SHORT=1"});
  REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
  CHECK(contents(bench.dir / "kit") == wanted);
  for (const std::vector<std::string>& words :
       {std::vector<std::string>{"extract", "in/ota.zip", "init_boot", "-o"},
        {"unpack", "init_boot.img", "-o"}}) {
    auto call = words;
    call.push_back("whole");
    REQUIRE(program(bench.dir, call).exit_code == 0);
    call.back() = "pieces";
    REQUIRE(bench.disturbed(call, {"WEXLO_SHORT=1"}).exit_code == 0);
    CHECK(contents(bench.dir / "pieces") == contents(bench.dir / "whole"));
    if (words[0] == "extract")
      fs::copy_file(bench.dir / "whole/init_boot.img", bench.dir / "init_boot.img");
    fs::remove_all(bench.dir / "whole");
    fs::remove_all(bench.dir / "pieces");
  }
}

TEST_CASE("prepare --force: a folder that takes the kit's place at the last moment is not lost") {
  const DiskBench bench;
  REQUIRE(program(bench.dir, bench.prepare).exit_code == 0);
  write(bench.dir / "photos/a.jpg", "precious");
  const Ran ran =
      bench.disturbed(bench.prepare, {"WEXLO_TAKEN=" + (bench.dir / "photos").string()});
  CHECK(ran.exit_code == 5);
  CHECK(read(bench.dir / "kit/a.jpg") == "precious");
  CHECK(is_whole(bench.dir / "photos"));  // where the test put what had been there
}

TEST_CASE(
    "prepare: killed at each of its calls to the disk: a whole kit or none, inputs as they were" *
    doctest::skip(watched())) {
  const DiskBench bench;
  const std::string before = bench.inputs();
  const auto calls = bench.record(bench.prepare).size();
  REQUIRE(is_whole(bench.dir / "kit"));
  const std::string wanted = read(bench.dir / "kit/digests.txt");
  CHECK(calls > 20);
  std::size_t whole = 0, absent = 0;
  for (const bool over : {false, true}) {
    // Over a kit that is there: then one is there at any moment.
    for (std::size_t call = 1; call <= calls; call += over && call < calls - 8 ? 3 : 1) {
      CAPTURE(over);
      CAPTURE(call);
      if (!over) fs::remove_all(bench.dir / "kit");
      const Ran ran = bench.disturbed(bench.prepare, {"WEXLO_KILL_AT=" + std::to_string(call)});
      CHECK(ran.exit_code != 0);
      const bool now = is_whole(bench.dir / "kit");
      if (now) CHECK(read(bench.dir / "kit/digests.txt") == wanted);
      if (over) CHECK(now);
      ++(now ? whole : absent);
    }
    REQUIRE(program(bench.dir, bench.prepare).exit_code == 0);
  }
  CHECK(bench.inputs() == before);
  CHECK(absent > calls / 2);
  CHECK(whole > calls / 3);
  // What the killed ones left went with the next that was done.
  std::set<std::string> left;
  for (const auto& entry : fs::directory_iterator(bench.dir.path()))
    left.insert(entry.path().filename().string());
  CHECK(left == std::set<std::string>{"in", "kit"});
}
