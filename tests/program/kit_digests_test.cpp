/// Kits of many kinds, held by the digests of all their files: whoever moves code about sees what
/// else moved. Where a kit is meant to change, the list is written anew and its difference read:
/// WEXLO_KIT_DIGESTS=tests/data/kit-digests.txt build/release/tests/wexlo_program_tests
/// --source-file="*kit_digests_test*"

#include <cstdlib>

#include "demo/phones.hpp"
#include "program/bench.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// Makes a kit and lists it. @param words  the firmware first
std::string kit_lines(const TempDir& dir, const std::string& kit, std::vector<std::string> words) {
  CAPTURE(kit);
  words.insert(words.begin(), "prepare");
  words.insert(words.end(), {"-o", kit});
  const Ran ran = program(dir, words);
  REQUIRE_MESSAGE(ran.exit_code == 0, ran.err, ran.out);
  std::string out;
  for (const std::string& name : files_of(dir / kit))
    out += hex_of(sha256(read(dir / kit / name))) + "  " + kit + "/" + name + "\n";
  return out;
}

const std::string kSuper =
    "[super]\nsize = 6291456\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n[[logical]]\n"
    "name = \"product_a\"\nsize = 1048576\n[[logical]]\nname = \"vendor_a\"\nsize = 1048576\n"
    "[[logical]]\nname = \"system_a-cow\"\nsize = 1048576\n";

/// Phones with two slots, in every way that a kit can be made for one.
std::string slotted_kits() {
  const Bench bench;
  const TempDir& dir = bench.dir;
  write(dir / "gsi.img",
        file_system(4 * kMiB, "ro.product.cpu.abilist=arm64-v8a\nro.build.ab_update=true\n"));
  write(dir / "noise.img", noise(2 * kMiB, 3));
  write(dir / "super.toml", Bench::sheet(kSuper));
  write(dir / "pieces.toml",
        Bench::sheet("[super]\nsize = 16777216\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n")
            .replace(Bench::sheet().find("slots ="), 0, "download_limit = 700000\n"));
  write(dir / "own-boot.img", BootBytes{.kernel = arm64_kernel("5.10.1-own")}.done());
  write(dir / "new.zip", bench.ota("korvale/gnomon/gnomon:16/KV3A.2/20261005:user/release-keys"));
  const std::vector<std::pair<std::string, std::vector<std::string>>> kits{
      {"plain", {"ota.zip", "-r", "r.toml"}},
      {"sheet", {"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--slots", "both"}},
      {"flags", {"ota.zip", "-r", "r.toml", "-r", "flags.toml", "--sheet", "sheet.toml"}},
      {"key",
       {"ota.zip", "-r", "r.toml", "--key",
        (source_folder() / fs::path("demo/keys/korvale-demo.pem")).string()}},
      {"with", {"ota.zip", "-r", "r.toml", "--with", "boot=own-boot.img"}},
      {"system",
       {"ota.zip", "-r", "r.toml", "-r", "flags.toml", "--sheet", "super.toml", "--with",
        "system=gsi.img", "--wipe"}},
      {"pieces",
       {"ota.zip", "-r", "r.toml", "-r", "flags.toml", "--sheet", "pieces.toml", "--with",
        "system=noise.img", "--wipe"}},
      {"install", {"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--install", "ota.zip"}},
      {"stock", {"ota.zip", "--stock", "--sheet", "sheet.toml"}},
      {"update", {"new.zip", "--like", "sheet"}},
  };
  std::string out;
  for (const auto& [kit, words] : kits)
    out += kit_lines(dir, kit, words);
  return out;
}

/// One slot in download mode, with a system that goes in a whole super; recovery inside of boot.
std::string older_kits() {
  const TempDir dir;
  REQUIRE(wexlo::demo::write_vernier(dir / "vernier.zip", wexlo::demo::FirmwareSize::Small,
                                     {.jobs = 2}));
  REQUIRE(wexlo::demo::write_plumbline(dir / "plumbline.tar.md5", wexlo::demo::FirmwareSize::Small,
                                       {.jobs = 2}));
  write(dir / "r.toml", kRecipe);
  write(dir / "flags.toml", kFlags);
  write(dir / "hello", elf("arm64", "the add-on"));
  write(dir / "gsi.img", file_system(kMiB, "ro.product.cpu.abilist=arm64-v8a\n"));
  return kit_lines(dir, "vernier", {"vernier.zip", "-r", "r.toml"}) +
         kit_lines(dir, "plumbline",
                   {"plumbline.tar.md5", "-r", "r.toml", "--accept", "vbmeta-needed"}) +
         kit_lines(dir, "plumbline-system",
                   {"plumbline.tar.md5", "-r", "r.toml", "-r", "flags.toml", "--with",
                    "system=gsi.img", "--wipe"});
}

std::set<std::string> lines(const std::string& text) {
  std::set<std::string> out;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);)
    out.insert(line);
  return out;
}

}  // namespace

TEST_CASE("kits: every file of every kind of kit is the one that it was") {
  const std::string found = slotted_kits() + older_kits();
  if (const char* file = std::getenv("WEXLO_KIT_DIGESTS")) write(file, found);
  const auto listed = lines(read(source_folder() + "/tests/data/kit-digests.txt"));
  const auto now = lines(found);
  CHECK(now.size() > 100);
  for (const std::string& one : now)
    CHECK_MESSAGE(listed.contains(one), "not as listed: ", one);
  for (const std::string& one : listed)
    CHECK_MESSAGE(now.contains(one), "gone, or another: ", one);
}
