/// What every command prints for people, on the demo's data, at 80 and at 120 columns: held against
/// tests/data/golden. With WEXLO_WRITE_PAGES in the environment they are written anew: read them
/// before they are committed.

#include <cstdlib>
#include <sstream>

#include "program/tour.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

struct Shown {
  const char* name;
  const char* line;
};
constexpr Shown kShown[] = {
    {"tasks", "wexlo"},
    {"help", "wexlo help"},
    {"help-task", "wexlo help no-start"},
    {"help-command", "wexlo help seal"},
    {"explain", "wexlo explain rollback"},
    {"explain-all", "wexlo explain"},
    {"inspect-package", "wexlo inspect gnomon-ota.zip"},
    {"inspect-zip-in-zip", "wexlo inspect vernier-factory.zip"},
    {"inspect-image", "wexlo inspect init_boot-patched.img"},
    {"inspect-vendor-boot", "wexlo inspect images/vendor_boot.img"},
    {"inspect-vbmeta", "wexlo inspect images/vbmeta.img"},
    {"inspect-kit", "wexlo inspect kit"},
    {"extract", "wexlo extract gnomon-ota.zip -o out"},
    {"extract-list", "wexlo extract vernier-factory.zip --list"},
    {"unpack", "wexlo unpack images/vendor_boot.img -o my-parts"},
    {"repack", "rm parts/tree/system/etc/ramdisk/build.prop; wexlo repack parts -o mine.img"},
    {"patch", "wexlo patch images/init_boot.img -r add-on/recipe.toml -o p.img"},
    {"patch-dry", "wexlo patch images/vendor_boot.img -r add-on/recipe.toml --dry-run"},
    {"restore", "wexlo restore init_boot-patched.img -o s.img"},
    {"restore-kit", "wexlo restore kit -o stock-again"},
    {"compare", "wexlo compare images/init_boot.img init_boot-patched.img"},
    {"compare-builds", "wexlo compare gnomon-ota-260805.zip gnomon-ota.zip"},
    {"check-package", "wexlo check gnomon-ota.zip"},
    {"check-kit", "wexlo check kit"},
    {"check-against", "wexlo check init_boot-patched.img --against gnomon-ota.zip"},
    {"seal", "wexlo seal images/vbmeta.img init_boot-patched.img -o sealed"},
    {"recipes", "wexlo recipes"},
    {"prepare",
     "wexlo prepare gnomon-ota.zip -r add-on/recipe.toml --sheet sheets/gnomon.toml -o my-kit"},
    {"prepare-no-sheet", "wexlo prepare plumbline-download.tar.md5 --stock -o my-kit"},
    {"prepare-refused",
     "wexlo prepare gnomon-ota.zip -r add-on/recipe.toml --sheet sheets/gnomon-newer.toml -o k"},
    {"prepare-quiet",
     "wexlo prepare gnomon-ota.zip -r add-on/recipe.toml --sheet sheets/gnomon-newer.toml -o k -q"},
    {"prepare-update", "wexlo prepare gnomon-ota.zip --like kit-260805 -o my-kit"},
    {"prepare-incremental",
     "wexlo prepare gnomon-ota-260805-to-260905.zip -r add-on/recipe.toml -o my-kit"},
    {"plan", "cat kit/plan.txt"},
    {"plan-download", "cat plumbline-kit/plan.txt"},
    {"plan-update", "cat kit-update/plan.txt"},
    {"plan-system", "cat kit-generic-system/plan.txt"},
    {"sheet", "wexlo sheet --props sheets/gnomon-properties.txt"},
    {"batch", "wexlo batch sheets/tray.toml --dry-run"},
    {"insert",
     "wexlo insert plumbline-download.tar.md5 boot=plumbline-kit/flash/boot.img -o mine.tar.md5"},
    {"draw", "wexlo draw init_boot-patched.img -o bytes.svg"},
};

/// Columns of a line: UTF-8's continuation bytes take none.
std::size_t columns_in(const std::string& line) {
  return static_cast<std::size_t>(std::ranges::count_if(
      line, [](char one) { return (static_cast<unsigned char>(one) & 0xc0) != 0x80; }));
}

void check_golden(const Shown& one, int columns) {
  const Tour tour;
  const Ran ran = tour.line(one.line, columns);
  const std::string text = ran.out + ran.err;
  const fs::path file = fs::path(source_folder()) / "tests/data/golden" / std::to_string(columns) /
                        (std::string(one.name) + ".txt");
  if (std::getenv("WEXLO_WRITE_PAGES") != nullptr)
    write(file, text);
  else
    CHECK_MESSAGE(text == (fs::exists(file) ? read(file) : ""), one.name);
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);)
    CHECK_MESSAGE(columns_in(line) <= static_cast<std::size_t>(columns), one.name << ": " << line);
}

}  // namespace

TEST_CASE("golden: what commands print at 80 columns") {
  for (const Shown& one : kShown)
    check_golden(one, 80);
}

TEST_CASE("golden: what commands print at 120 columns") {
  for (const Shown& one : kShown)
    check_golden(one, 120);
}

TEST_CASE("golden: a narrow terminal folds, and elsewhere nothing is folded") {
  const Tour tour;
  const Ran narrow = tour.line("wexlo check kit", 50);
  std::istringstream lines(narrow.out);
  for (std::string line; std::getline(lines, line);)
    CHECK_MESSAGE(columns_in(line) <= 66, line);  // a digest has 64
  const Ran wide = tour.line("unset COLUMNS; wexlo check kit");
  CHECK(wide.out.find("warning: vbmeta: vbmeta's flags switch verification off: no partition is "
                      "looked at. [verification-off]\n") != std::string::npos);
}
