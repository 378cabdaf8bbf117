/// Typical mistakes, and what is said of each: tests/data/slips.txt.

#include <sstream>

#include "program/tour.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

struct Slip {
  int code = 0;
  std::string line, says, hint;
};

std::vector<Slip> slips() {
  std::vector<Slip> out;
  std::istringstream lines(read(fs::path(source_folder()) / "tests/data/slips.txt"));
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with('#')) continue;
    std::vector<std::string> cells;
    for (std::size_t at = 0; at != line.npos;) {
      const std::size_t end = line.find(" | ", at);
      cells.push_back(line.substr(at, end - at));
      at = end == line.npos ? end : end + 3;
    }
    REQUIRE_MESSAGE(cells.size() == 4, line);
    out.push_back({std::stoi(cells[0]), cells[1], cells[2], cells[3]});
  }
  return out;
}

void lay_out(const Tour& tour) {
  const fs::path& dir = tour.path();
  write(dir / "empty.zip", "");
  write(dir / "empty.img", "");
  write(dir / "cut.zip", read(dir / "gnomon-ota.zip").substr(0, 3'000'000));
  write(dir / "cut.img", read(dir / "images/init_boot.img").substr(0, 5000));
  write(dir / "picture.png",
        std::string("\x89PNG\r\n\x1a\n\0\0\0\rIHDR", 16) + std::string(4000, ' '));
  write(dir / "page.html", "<!DOCTYPE html><html><body>404 not found</body></html>");
  write(dir / "init-only.toml",
        "format = 1\nname = \"x\"\n[[edit]]\nkind = \"remove\"\npath = \"init\"\n");
  write(dir / "bad.toml", "colour = \"red\"\n");
  fs::remove(dir / "my-key.pem");
}

}  // namespace

TEST_CASE("slips: each typical mistake has its exit code, what happened, and the thing to do") {
  const auto all = slips();
  CHECK(all.size() >= 80);
  const Tour tour;
  lay_out(tour);
  const auto before = names_below(tour.path());
  for (const Slip& one : all) {
    CAPTURE(one.line);
    const Ran ran = tour.line("unset COLUMNS; " + one.line);
    CAPTURE(ran.err);
    CHECK(ran.exit_code == one.code);
    CHECK(ran.err.starts_with("wexlo: " + one.says));
    CHECK_FALSE(one.hint.empty());
    CHECK(ran.err.find(one.hint) != std::string::npos);
  }
  // None of them wrote anything.
  CHECK(names_below(tour.path()) == before);
}

TEST_CASE("slips: what was meant is done where nothing else can be") {
  const Tour tour;
  // -r takes one value, so that the firmware may stand anywhere; several behind one name do, too.
  for (const char* line :
       {"wexlo prepare -r add-on/recipe.toml gnomon-ota.zip --dry-run",
        "wexlo prepare --dry-run gnomon-ota.zip -r add-on/recipe.toml @verification-off",
        "wexlo prepare -r add-on/recipe.toml @verification-off gnomon-ota.zip --dry-run",
        "wexlo -q prepare --recipe=add-on/recipe.toml --dry-run -- gnomon-ota.zip"}) {
    CAPTURE(line);
    const Ran ran = tour.line(line);
    CAPTURE(ran.err);
    CHECK(ran.exit_code == 0);
  }
  const Ran both = tour.line(
      "wexlo prepare -r add-on/recipe.toml @verification-off gnomon-ota.zip "
      "--dry-run --json");
  CHECK(both.out.find("verification-off") != std::string::npos);
  // One partition, to a file; a folder of that name stays a folder; parents are made.
  CHECK(tour.line("wexlo extract gnomon-ota.zip init_boot -o new/place/my.img -q").exit_code == 0);
  CHECK(fs::file_size(tour.path() / "new/place/my.img") == 8u << 20);
  CHECK_FALSE(fs::exists(tour.path() / "new/place/extract.json"));
  CHECK(tour.line("mkdir odd.img; wexlo extract gnomon-ota.zip init_boot -o odd.img").exit_code ==
        0);
  CHECK(fs::exists(tour.path() / "odd.img/init_boot.img"));
  CHECK(tour.line("wexlo extract gnomon-ota.zip init_boot.img -o x").exit_code == 0);
  CHECK(tour.line("wexlo insert plumbline-download.tar.md5 boot.img=images/boot.img -o x.tar "
                  "--accept other-size-boot --accept other-header-boot")
            .err.find("no partition") == std::string::npos);
  // An empty value counts as none, and never takes the next word.
  CHECK(tour.line("wexlo extract gnomon-ota.zip -o \"\"").exit_code == 2);
  CHECK(tour.line("wexlo unpack images/init_boot.img -o \"\" --force").exit_code == 2);
  CHECK(tour.line("wexlo inspect --config \"\" kit").exit_code == 0);
  CHECK_FALSE(fs::exists(tour.path() / "--"));
  for (const char* option : {"--limit", "--jobs", "--color"})
    CHECK(tour.line(std::string("wexlo inspect kit ") + option + " \"\"").exit_code == 2);
  CHECK(tour.line("wexlo recipes verification-off").out.starts_with("format = 1"));
  CHECK(tour.line("wexlo keys new k.pem --bits 2048").exit_code == 0);
}

TEST_CASE("slips: the settings' folders, a technician's name, and colour") {
  const Tour tour;
  write(tour.path() / "conf/config.toml",
        "sheets = \"../sheets\"\nrecipes = \"../add-ons\"\ntechnician = \"M. Reed\"\n"
        "color = \"always\"\ncache_bound = \"0\"\njobs = 1\n");
  fs::create_directory(tour.path() / "add-ons");
  fs::copy(tour.path() / "add-on", tour.path() / "add-ons/hello", fs::copy_options::recursive);
  const Ran ran = tour.line(
      "unset NO_COLOR; wexlo --config conf/config.toml prepare gnomon-ota.zip -r @hello --sheet "
      "gnomon -o my-kit");
  CHECK_MESSAGE(ran.exit_code == 0, ran.err);
  CHECK(ran.out.find("\033[") != std::string::npos);
  CHECK(read(tour.path() / "my-kit/report.html").find("M. Reed") != std::string::npos);
  CHECK(Json::parse(read(tour.path() / "my-kit/kit.json"))["settings"]["technician"] == "M. Reed");
  CHECK(tour.line("WEXLO_COLOR=never wexlo --config conf/config.toml check my-kit")
            .out.find("\033[") == std::string::npos);
  CHECK(tour.line("WEXLO_SHEETS=sheets wexlo prepare gnomon-ota.zip --stock --sheet gnomon "
                  "--dry-run")
            .exit_code == 0);
  for (const char* bad : {"WEXLO_COLOR=red", "WEXLO_CACHE_BOUND=much", "WEXLO_JOBS=0"}) {
    const Ran refused = tour.line(std::string(bad) + " wexlo inspect kit");
    CHECK(refused.exit_code == 2);
    CHECK(refused.err.find("the environment's WEXLO_") != std::string::npos);
  }
}

TEST_CASE("slips: a kit gives its stock images, verified, or says which is damaged") {
  const Tour tour;
  CHECK(tour.line("wexlo restore kit -o back").exit_code == 0);
  CHECK(read(tour.path() / "back/init_boot.img") == read(tour.path() / "kit/stock/init_boot.img"));
  CHECK(tour.line("wexlo restore kit").out.find("plan.txt") != std::string::npos);
  CHECK(tour.line("wexlo restore kit -o back").exit_code == 5);
  // A byte of one of them: nothing is copied at all.
  fs::copy(tour.path() / "kit", tour.path() / "bad-kit", fs::copy_options::recursive);
  std::string image = read(tour.path() / "bad-kit/stock/vbmeta.img");
  image[200] = static_cast<char>(image[200] ^ 1);
  fs::remove(tour.path() / "bad-kit/stock/vbmeta.img");
  write(tour.path() / "bad-kit/stock/vbmeta.img", image);
  const Ran damaged = tour.line("unset COLUMNS; wexlo restore bad-kit -o none");
  CHECK(damaged.exit_code == 3);
  CHECK(damaged.err.find("the stock image in the kit is damaged") != std::string::npos);
  CHECK_FALSE(fs::exists(tour.path() / "none"));
  CHECK(tour.line("wexlo restore kit -o kit/back").exit_code == 2);
}
