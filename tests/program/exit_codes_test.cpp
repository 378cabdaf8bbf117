/// Exit codes are a promise to scripts: docs/exit-codes.md has a table of cases, and this runs each
/// row.

#include <sstream>

#include "program/bench.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

struct Case {
  std::string call;
  int code = 0;
};

/// The rows `| case | `call` | code |` below the heading "Cases".
std::vector<Case> documented() {
  const std::string page = read(fs::path(source_folder()) / "docs/exit-codes.md");
  const auto begin = page.find("## Cases");
  REQUIRE(begin != page.npos);
  std::istringstream lines(page.substr(begin));
  std::vector<Case> out;
  for (std::string line; std::getline(lines, line);) {
    const auto open = line.find("| `"), close = line.find("` | ", open);
    if (line.starts_with("| ") && open != line.npos && close != line.npos)
      out.push_back({line.substr(open + 3, close - open - 3), std::stoi(line.substr(close + 4))});
  }
  return out;
}

/// What the rows name.
void lay_out(const Bench& bench) {
  const TempDir& dir = bench.dir;
  for (const char* name : {"boot", "init_boot", "vbmeta"})
    write(dir / (std::string(name) + ".img"), bench.images.at(name));
  write(dir / "note.txt", std::string("a text, and no more than that\n") + std::string(5000, ' '));
  write(dir / "cut.img", bench.images.at("boot").substr(0, 5000));
  write(dir / "no-init.img",
        BootBytes{.version = 4, .ramdisk = lz4_legacy(CpioBytes{}.folder("dev").done())}.done());
  fs::create_directory(dir / "empty");
  fs::create_directory(dir / "there");
  write(dir / "there/mine.txt", "not Wexlo's");
  write(dir / "there.img", "not Wexlo's");
  write(dir / "twins/a/init_boot.img", bench.images.at("init_boot"));
  write(dir / "twins/b/init_boot.img", bench.images.at("boot"));
  write(dir / "images/boot.img", bench.images.at("boot"));
  write(dir / "images/init_boot.img", bench.images.at("init_boot"));
  const std::string head = "format = 1\nname = \"x\"\n[[edit]]\n";
  write(dir / "idle.toml", head + "kind = \"remove\"\npath = \"none\"\n");
  write(dir / "bad.toml", head + "kind = \"remove\"\npath = 7\n");
  write(dir / "later.toml", "format = 9\nname = \"x\"\n");
  write(dir / "odd-settings.toml", "jobs = 1\ncolour = \"red\"\n");
  write(dir / "other-phone.toml", "[phone]\ncodename = \"vernier\"\narchitecture = \"arm64\"\n");
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
}

}  // namespace

TEST_CASE(
    "every case of the documented exit codes ends with its code, and leaves no output behind") {
  const Bench bench;
  lay_out(bench);
  const std::vector<Case> cases = documented();
  CHECK(cases.size() > 100);
  std::set<int> codes;
  const auto before = files_of(bench.dir.path());
  for (const Case& one : cases) {
    CAPTURE(one.call);
    std::istringstream words(one.call);
    std::vector<std::string> call;
    for (std::string word; words >> word;)
      call.push_back(word);
    const Ran ran = program(bench.dir, call);
    CAPTURE(ran.err);
    CHECK(ran.exit_code == one.code);
    codes.insert(one.code);
    if (one.code == 0) fs::remove(bench.dir / "x.img");
    // What could not be done is told in a sentence, and leaves all as it was.
    if (one.code > 1) CHECK(ran.err.size() > 20);
    CHECK(files_of(bench.dir.path()) == before);
    for (const char* output : {"x", "x.img", "x.zip", "x.svg"})
      fs::remove_all(bench.dir / output);
  }
  CHECK(codes == std::set<int>{0, 1, 2, 3, 4, 5, 6});
}
