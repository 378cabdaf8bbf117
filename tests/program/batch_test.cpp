/// Trays of phones, and drawings of what is in files.

#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/containers.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

std::string boot_of(const std::string& word) {
  return with_footer(
      BootBytes{.kernel = arm64_kernel("5.10.1"),
                .ramdisk =
                    lz4_legacy(CpioBytes{}.entry("init", elf("arm64", word), 0100750, 0, 1).done())}
          .done(),
      "boot", 1u << 17);
}

std::string build_of(const std::string& device) {
  return "korvale/" + device + "/" + device + ":16/A/1:user/k";
}

struct TrayBench {
  TrayBench() {
    for (const std::string device : {"gnomon", "vernier"}) {
      PayloadBytes payload;
      payload.partitions = {partition_of("boot", boot_of(device), 1)};
      payload.partitions[0].sha256 = device == "gnomon" ? std::optional<std::string>() : "";
      write(dir / (device + ".zip"),
            zip({{"META-INF/com/android/metadata",
                  "post-build=" + build_of(device) + "\npre-device=" + device + "\n"},
                 {"payload.bin", payload.done()}}));
      write(dir / (device + ".toml"), "[phone]\ncodename = \"" + device +
                                          "\"\n[build]\nfingerprint = \"" + build_of(device) +
                                          "\"\n");
    }
    write(dir / "hello", elf("arm64", "the add-on"));
    write(dir / "r.toml",
          "format = 1\nname = \"tests\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = "
          "\"hello\"\n");
  }
  Json batch(const std::string& tray, int wanted = 0,
             std::vector<std::string> more = {"--no-cache"}) const {
    write(dir / "tray.toml", tray);
    more.insert(more.begin(), {"batch", "tray.toml"});
    return program_json(dir, more, wanted);
  }
  TempDir dir;
};

const std::string kTray =
    "[[job]]\nfirmware = [\"gnomon.zip\", \"vernier.zip\"]\nrecipes = \"r.toml\"\n"
    "sheets = [\"gnomon.toml\", \"vernier.toml\"]\npair = \"fitting\"\nkit = \"out/{sheet}\"\n";

/// A tray of one job with the bench's recipe.
std::string job_of(const std::string& firmware, const std::string& more) {
  return "[[job]]\nfirmware = " + firmware + "\nrecipes = \"r.toml\"\n" + more;
}

std::string outcomes(const Json& document) {
  std::string out;
  for (const Json& one : document["result"]["jobs"])
    out += one["outcome"].get<std::string>() + ", ";
  return out;
}

}  // namespace

TEST_CASE("batch: each firmware for the phone that it fits, one table for all") {
  const TrayBench bench;
  const Json done = bench.batch(kTray);
  CHECK(outcomes(done) == "made, not for it, not for it, made, ");
  CHECK(done["result"]["jobs"][0]["device"] == "gnomon");
  CHECK(program_json(bench.dir, {"check", "out/gnomon"})["ok"] == true);
  CHECK(program_json(bench.dir, {"check", "out/vernier"})["ok"] == true);
  // As `prepare` alone makes them.
  REQUIRE(program(bench.dir, {"prepare", "gnomon.zip", "-r", "r.toml", "--sheet", "gnomon.toml",
                              "-o", "alone"})
              .exit_code == 0);
  CHECK(shell("diff -r alone out/gnomon", bench.dir.path().string()).exit_code == 0);
  const Ran text = program(bench.dir, {"batch", "tray.toml", "--force", "--no-cache"});
  CHECK(text.out.find("2 of 2 kits made") != std::string::npos);
}

TEST_CASE("batch: what is refused or fails keeps no other kit from being made") {
  const TrayBench bench;
  const Json refused =
      bench.batch(job_of("\"gnomon.zip\"",
                         "sheets = [\"gnomon.toml\", \"vernier.toml\"]\nkit = \"out/{sheet}\"\n"),
                  1);
  CHECK(outcomes(refused) == "made, refused, ");
  CHECK(refused["result"]["jobs"][1]["problems"] == Json({"device", "build"}));
  CHECK(refused["error"]["found"] == "device, build");
  CHECK(refused["error"]["message"] == "1 kit of the tray was not made");
  CHECK(fs::exists(bench.dir / "out/gnomon/kit.json"));
  CHECK_FALSE(fs::exists(bench.dir / "out/vernier"));
  const Json failed =
      bench.batch(job_of("[\"none.zip\", \"vernier.zip\"]", "kit = \"more/{firmware}\"\n"), 5);
  CHECK(outcomes(failed) == "failed, made, ");
  CHECK(failed["error"]["code"] == "not-found");
  const Json both = bench.batch(job_of("[\"none.zip\", \"gnomon.zip\"]",
                                       "sheets = \"vernier.toml\"\nkit = \"both/{firmware}\"\n"),
                                5);
  CHECK(outcomes(both) == "failed, refused, ");
  CHECK(both["error"]["message"] == "2 kits of the tray were not made");
  // A phone that nothing is for.
  write(bench.dir / "other.toml", "[phone]\ncodename = \"plumbline\"\n");
  const Json alone =
      bench.batch(job_of("[\"gnomon.zip\", \"vernier.zip\"]",
                         "sheets = \"other.toml\"\npair = \"fitting\"\nkit = \"x/{sheet}\"\n"),
                  1);
  CHECK(alone["result"]["jobs"][0]["problems"] == Json({"no-firmware"}));
}

TEST_CASE("batch: images are kept for the next time, and what was kept is the same") {
  const TrayBench bench;
  const auto batch = [&](std::vector<std::string> more) {
    more.insert(more.begin(), {built_program(), "batch", "tray.toml", "--json"});
    const Ran ran =
        run(more, bench.dir.path().string(),
            {"XDG_CONFIG_HOME=/nonexistent", "XDG_CACHE_HOME=" + (bench.dir / "cache").string()});
    CAPTURE(ran.out);
    REQUIRE(ran.exit_code == 0);
    return Json::parse(ran.out);
  };
  write(bench.dir / "tray.toml", kTray);
  CHECK(batch({})["result"]["cache_hits"] == 0);
  const auto kept = [&] {
    return std::distance(fs::directory_iterator(bench.dir / "cache/wexlo/images"), {});
  };
  CHECK(kept() == 2);
  REQUIRE(shell("cp -r out first", bench.dir.path().string()).exit_code == 0);
  CHECK(batch({"--force"})["result"]["cache_hits"].get<int>() >= 2);
  CHECK(shell("diff -r first out", bench.dir.path().string()).exit_code == 0);
  // Spoilt on the disk, it is read anew.
  for (const auto& one : fs::directory_iterator(bench.dir / "cache/wexlo/images"))
    write(one.path(), "spoilt");
  batch({"--force"});
  CHECK(shell("diff -r first out", bench.dir.path().string()).exit_code == 0);
  fs::remove_all(bench.dir / "cache");
  CHECK(batch({"--force", "--no-cache"})["result"]["cache_hits"].is_null());
  CHECK_FALSE(fs::exists(bench.dir / "cache"));
}

TEST_CASE("batch: a dry run writes nothing") {
  const TrayBench bench;
  const auto before = bench.dir.names();
  write(bench.dir / "tray.toml", kTray);
  const Json dry = bench.batch(kTray, 0, {"--dry-run", "--no-cache"});
  CHECK(outcomes(dry) == "would be made, not for it, not for it, would be made, ");
  CHECK(dry["result"]["jobs"][0]["kit"].is_null());
  CHECK_FALSE(fs::exists(bench.dir / "out"));
}

TEST_CASE("batch: from the tray's own folder, a kit that is a bare name") {
  const TrayBench bench;
  const Json done = bench.batch(
      "[[job]]\nfirmware = \"gnomon.zip\"\nrecipes = [\"r.toml\"]\nkit = "
      "\"kit-one\"\n");
  CHECK(outcomes(done) == "made, ");
  CHECK(fs::exists(bench.dir / "kit-one/kit.json"));
  const Ran dry = program(bench.dir, {"batch", "tray.toml", "--dry-run", "--force"});
  CHECK(dry.out.find("would be made") != std::string::npos);
}

TEST_CASE("draw: every figure, in every form, by what the input is or by name") {
  const TrayBench bench;
  write(bench.dir / "boot.img", boot_of("x"));
  write(bench.dir / "other.img", boot_of("another"));
  SuperBytes super;
  super.partitions = {{"system", {{64, 400}}}, {"vendor", {{16, 600}}}};
  write(bench.dir / "super.img", super.done());
  fs::create_directory(bench.dir / "set");
  write(bench.dir / "set/boot.img", boot_of("x"));
  write(bench.dir / "set/vbmeta.img",
        padded(vbmeta(hash_descriptor("boot", boot_of("x"), "s")), 4096));
  write(bench.dir / "sheet.toml",
        "[super]\nsize = 16777216\n[[logical]]\nname = \"system_a\"\nsize = 4096\n");
  struct Case {
    std::vector<std::string> what;
    const char* title;
  };
  const std::vector<Case> cases{{{"boot.img"}, "boot.img"},
                                {{"boot.img", "other.img"}, "boot.img and other.img"},
                                {{"gnomon.zip"}, "Payload of gnomon.zip"},
                                {{"super.img"}, "super of super.img"},
                                {{"set"}, "Verified boot of set"},
                                {{"set", "--figure", "chain"}, "Verified boot of set"},
                                {{"sheet.toml"}, "super of the phone in sheet.toml"}};
  for (const Case& one : cases)
    for (const char* end : {".svg", ".png", ".pdf"}) {
      CAPTURE(one.title);
      std::vector<std::string> words{"draw"};
      words.insert(words.end(), one.what.begin(), one.what.end());
      words.insert(words.end(), {"-o", std::string("out") + end, "--force"});
      const Json done = program_json(bench.dir, words);
      CHECK(done["result"]["title"] == one.title);
      const std::string first = read(bench.dir / (std::string("out") + end));
      CHECK(done["result"]["size"] == first.size());
      program_json(bench.dir, words);
      CHECK(read(bench.dir / (std::string("out") + end)) == first);
    }
  CHECK(program_json(bench.dir, {"draw", "boot.img", "-o", "x.gif"}, 2)["error"]["code"] ==
        "usage");
  CHECK(program_json(bench.dir, {"draw", "boot.img", "--figure", "payload", "-o", "x.svg"},
                     2)["error"]["code"] == "usage");
  CHECK(program_json(bench.dir, {"draw", "boot.img", "--figure", "changes", "-o", "x.svg"},
                     2)["error"]["code"] == "usage");
  CHECK(program_json(bench.dir, {"draw", "none.img", "-o", "x.svg"}, 5)["error"]["code"] ==
        "not-found");
  write(bench.dir / "bad/kit.json", "{");
  CHECK(program_json(bench.dir, {"draw", "bad", "--figure", "super", "-o", "x.svg"},
                     3)["error"]["code"] == "bad-value");
  CHECK_FALSE(fs::exists(bench.dir / "x.svg"));
}
