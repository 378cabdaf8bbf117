/// The kit for the phone: what fits, what is refused, what the kit holds.

#include "program/bench.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE(
    "prepare: a phone that fits: a whole kit, with its report, and the same bytes each time") {
  const Bench bench;
  const Json done = bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml"});
  CHECK(done["result"]["target"] == "init_boot");
  CHECK(done["result"]["kit"] == "kit");
  for (const Json& row : done["result"]["fit"]) {
    CAPTURE(row.dump());
    CHECK(row["verdict"] != "differs");
  }
  CHECK(files_of(bench.dir / "kit") ==
        std::set<std::string>{"digests.txt", "figures/chain.svg", "figures/changes-init_boot.svg",
                              "flash/init_boot.img", "kit.json", "plan-back.messages",
                              "plan.messages", "plan.toml", "plan.txt", "recipes/1-tests.toml",
                              "recipes/files/" + hex_of(sha256(elf("arm64", "the add-on"))),
                              "report.html", "report.json", "sheet.toml", "stock/init_boot.img"});
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml", "--jobs", "1"}, 0, "kit2")["ok"] ==
        true);
  CHECK(shell("diff -r kit kit2", bench.dir.path().string()).exit_code == 0);
  CHECK(shell("cd kit && sha256sum --quiet -c digests.txt", bench.dir.path().string()).exit_code ==
        0);
  CHECK(program_json(bench.dir, {"check", "kit"})["result"]["unlocked"] == "starts");
}

TEST_CASE("check: any changed, missing or strange file of a kit is found") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  for (const std::string& name : files_of(bench.dir / "kit")) {
    CAPTURE(name);
    const std::string whole = read(bench.dir / ("kit/" + name));
    std::string changed = whole;
    changed[changed.size() / 2] ^= 1;
    write(bench.dir / ("kit/" + name), changed);
    CHECK(program(bench.dir, {"check", "kit"}).exit_code != 0);
    if (name != "digests.txt") {
      fs::remove(bench.dir / ("kit/" + name));
      CHECK(program(bench.dir, {"check", "kit"}).exit_code != 0);
    }
    write(bench.dir / ("kit/" + name), whole);
  }
  CHECK(program(bench.dir, {"check", "kit"}).exit_code == 0);
  write(bench.dir / "kit/flash/readme.txt", "hello");
  CHECK(says(program_json(bench.dir, {"check", "kit"}), "warning:kit-file-extra"));
}

TEST_CASE("prepare: the wrong phone: exit 1, no kit, and the codes to accept it by") {
  const Bench bench;
  std::string other = Bench::sheet();
  other.replace(other.find("gnomon"), 6, "vernier");
  other.replace(other.find("KV3A.1/20260905"), 15, "KV3A.2/20261005");
  write(bench.dir / "other.toml", other);
  const auto before = bench.dir.names();
  const Json refused = bench.prepare({"-r", "r.toml", "--sheet", "other.toml"}, 1);
  CHECK(refused["error"]["code"] == "does-not-fit");
  CHECK(refused["error"]["found"] == "device, build");
  CHECK(refused["result"]["kit"].is_null());
  CHECK(refused["result"]["stopped"] == true);
  CHECK(bench.dir.names() == before);
  // One word for each, and no other.
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "other.toml", "--accept", "device"},
                      1)["error"]["found"] == "build");
  const Json accepted = bench.prepare({"-r", "r.toml", "--sheet", "other.toml", "--accept",
                                       "device", "--accept", "build", "--accept", "buidl"});
  CHECK(says(accepted, "note:accept-unused"));
  CHECK(read(bench.dir / "kit/report.html").find("differs, accepted") != std::string::npos);
  CHECK(Json::parse(read(bench.dir / "kit/kit.json"))["settings"]["accepted"].size() == 3);
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "none.toml"}, 5)["error"]["code"] == "not-found");
  write(bench.dir / "bad.toml", "[phone]\ncolour = \"red\"\n");
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "bad.toml"}, 3)["error"]["code"] == "bad-value");
}

TEST_CASE("prepare: both slots only where the sheet knows them to be the same, or when told") {
  const Bench bench;
  const auto slots = [&](const std::string& sheet, std::vector<std::string> more) {
    write(bench.dir / "s.toml", sheet);
    more.insert(more.end(), {"-r", "r.toml", "--sheet", "s.toml", "--force"});
    REQUIRE(bench.prepare(more)["ok"] == true);
    std::string out;
    const Json steps = bench.plan()["plan"];
    for (const Json& step : steps)
      if (step["do"] == "write") out += step["slot"].get<std::string>() + " ";
    return out;
  };
  const std::string same = Bench::sheet().replace(Bench::sheet().find("patch_level"), 0,
                                                  std::string("other_slot = \"") + kBuild + "\"\n");
  CHECK(slots(Bench::sheet(), {}) == "current ");
  CHECK(slots(same, {}) == "current other ");
  CHECK(slots(same, {"--slots", "current"}) == "current ");
  CHECK(slots(Bench::sheet(), {"--slots", "both"}) == "current other ");
  std::string different = same;
  different.replace(different.find("KV3A.1/20260905", different.find("other_slot")), 15,
                    "KV3A.0/20260805");
  write(bench.dir / "s.toml", different);
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "s.toml", "--slots", "both", "--force"},
                      1)["error"]["found"] == "other-slot");
}

TEST_CASE("prepare --stock: the stock images, a plan that only puts them back") {
  const Bench bench;
  const Json done = bench.prepare({"--stock", "--sheet", "sheet.toml"});
  CHECK(done["result"]["target"] == "");
  for (const char* name : {"boot", "init_boot", "vendor_boot", "vbmeta"}) {
    CAPTURE(name);
    const std::string file = std::string(name) + ".img";
    CHECK(read(bench.dir / ("kit/flash/" + file)) == bench.images.at(name));
    CHECK(read(bench.dir / ("kit/stock/" + file)) == bench.images.at(name));
  }
  const Json plan = bench.plan();
  CHECK(plan["purpose"] == "restore");
  CHECK(acts(plan["plan"]).find("write:vbmeta restart") != std::string::npos);
  CHECK(bench.prepare({"--stock", "-r", "r.toml"}, 2, "kit2")["error"]["code"] == "usage");
  CHECK(program_json(bench.dir, {"check", "kit"})["ok"] == true);
}

TEST_CASE("prepare --stock --like: what the older kit wrote, and no more") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  REQUIRE(bench.prepare({"--stock", "--like", "kit"}, 0, "back")["ok"] == true);
  CHECK(fs::exists(bench.dir / "back/flash/init_boot.img"));
  CHECK_FALSE(fs::exists(bench.dir / "back/flash/boot.img"));
}

TEST_CASE(
    "prepare --like: a new build is written whole first, then the patched images, one restart") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "--with", "boot=ota.zip"})["ok"] == true);
  write(bench.dir / "ota.zip",
        bench.ota("korvale/gnomon/gnomon:16/KV3A.2/20261005:user/release-keys"));
  const Json done = bench.prepare({"--like", "kit"}, 0, "kit2");
  CHECK(says(done, "note:like-without-given"));
  const Json plan = bench.plan("kit2");
  CHECK(plan["purpose"] == "update");
  CHECK(acts(plan["plan"]).find("install mode write:init_boot slot restart ") != std::string::npos);
  // Without a sheet nobody knows the slot's name.
  for (const Json& step : plan["plan"])
    if (step["do"] == "write") CHECK(step["slot"] == "other");
}

TEST_CASE("prepare: what a recipe needs of the phone is asked of the sheet") {
  const Bench bench;
  write(bench.dir / "needs.toml", kRecipe +
                                      "[needs]\nbuild = \"KV3A.1\"\nbaseband_ending = \"-EU\"\n"
                                      "chipset = [\"KV900\", \"KV901\"]\n");
  CHECK(bench.prepare({"-r", "needs.toml", "--sheet", "sheet.toml"})["ok"] == true);
  write(bench.dir / "s.toml",
        Bench::sheet().replace(Bench::sheet().find("architecture"), 0, "chipset = \"KV800\"\n"));
  CHECK(bench.prepare({"-r", "needs.toml", "--sheet", "s.toml"}, 1, "k")["error"]["found"] ==
        "recipe-needs-chipset");
}

TEST_CASE(
    "prepare: a download-mode phone: a tar as its own packages are, and the steps of a person") {
  const Bench bench;
  const auto member = [&](const char* name, const std::string& bytes) {
    return Member{std::string(name) + ".img.lz4", lz4_frame(bytes)};
  };
  const std::string boot =
      BootBytes{.version = 1, .kernel = arm64_kernel("4.14.1"), .ramdisk = gzip(init_ramdisk())}
          .done();
  SuperBytes layout;
  layout.size = 4 * kMiB;
  layout.partitions = {{"system", {{2048, 2048}}}, {"vendor", {{8, 5000}}}};
  std::string super = layout.done();
  super.replace(5000 * 512, 8 * 512, noise(8 * 512));
  const std::string package =
      tar({member("boot", boot), member("recovery", boot), member("super", super),
           member("vbmeta", bench.images.at("vbmeta"))});
  write(bench.dir / "home.tar", package);
  const Json done = program_json(
      bench.dir, {"prepare", "home.tar", "-r", "r.toml", "-o", "kit", "--accept", "vbmeta-needed"});
  CHECK(done["result"]["target"] == "boot");
  const std::string patched = "kit/package/phone-kit.tar.md5";
  CHECK(shell("tar tf " + patched, bench.dir.path().string()).out == "boot.img.lz4\n");
  CHECK(shell("tar xOf " + patched + " boot.img.lz4 | lz4 -dc | cmp - kit/flash/boot.img",
              bench.dir.path().string())
            .exit_code == 0);
  CHECK(shell("tar xOf kit/package/phone-stock.tar.md5 boot.img.lz4 | lz4 -dc | cmp - "
              "kit/stock/boot.img",
              bench.dir.path().string())
            .exit_code == 0);
  CHECK(program(bench.dir, {"extract", patched, "boot", "-o", "x"}).exit_code == 0);
  CHECK(acts(bench.plan()["plan"]) == "by-hand by-hand by-hand mode hand-over restart by-hand ");
  // Without a vbmeta of other flags beside it such a phone does not start a changed image.
  const Json refused =
      program_json(bench.dir, {"prepare", "home.tar", "-r", "r.toml", "-o", "kit0"}, 1);
  CHECK(refused["error"]["found"] == "vbmeta-needed");
  CHECK_FALSE(std::filesystem::exists(bench.dir / "kit0"));
  // A system of one's own goes with the whole super: nothing else writes it there.
  write(bench.dir / "gsi.img", noise(1536 * 1024, 9));
  REQUIRE(
      program_json(bench.dir, {"prepare", "home.tar", "-r", "r.toml", "--with", "system=gsi.img",
                               "--wipe", "-o", "kit2", "--accept", "vbmeta-needed"})["ok"] == true);
  REQUIRE(program(bench.dir,
                  {"extract", "kit2/package/phone-kit.tar.md5", "system", "vendor", "-o", "y"})
              .exit_code == 0);
  CHECK(read(bench.dir / "y/system.img") == noise(1536 * 1024, 9));
  CHECK(read(bench.dir / "y/vendor.img") == noise(8 * 512));
  CHECK(acts(bench.plan("kit2")["plan"]).find("drop") == std::string::npos);
}

TEST_CASE("prepare --dry-run: everything is judged, nothing is written") {
  const Bench bench;
  const auto before = bench.dir.names();
  const Json dry = program_json(
      bench.dir, {"prepare", "ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--dry-run"});
  CHECK(dry["result"]["kit"].is_null());
  CHECK(dry["result"]["fit"].size() > 5);
  CHECK(bench.dir.names() == before);
}

TEST_CASE(
    "prepare --like: of a package that names no build it is not told whether it is an update") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  write(bench.dir / "fw/init_boot.img", bench.images.at("init_boot"));
  write(bench.dir / "fw/boot.img", bench.images.at("boot"));
  write(bench.dir / "fw/vbmeta.img", bench.images.at("vbmeta"));
  const Ran ran = program(bench.dir, {"prepare", "fw", "--like", "kit", "-o", "k", "--json"});
  CAPTURE(ran.out);
  CHECK(codes(Json::parse(ran.out)).contains(":like-build-unknown"));
}

TEST_CASE("prepare: every expectation of a printed plan is a whole sentence") {
  const Bench bench;
  std::string sheet = Bench::sheet();
  sheet.insert(sheet.find("slots = "), "anti_rollback = 3\nbattery_percent = 70\n");
  write(bench.dir / "sheet.toml", sheet);
  const Ran ran = program(
      bench.dir, {"prepare", "ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "-o", "k"});
  CAPTURE(ran.out);
  REQUIRE(ran.exit_code == 0);
  for (const std::string& text : {ran.out, read(bench.dir / "k/plan.txt")}) {
    CHECK(text.find(" is .") == text.npos);
    CHECK(text.find(" is \n") == text.npos);
    CHECK(text.find(" at most .") == text.npos);
  }
}

TEST_CASE("prepare: --accept that names nothing is told when it is refused, too") {
  const Bench bench;
  write(bench.dir / "other.toml", "[phone]\ncodename = \"vernier\"\n");
  const Json said =
      bench.prepare({"-r", "r.toml", "--sheet", "other.toml", "--accept", "no-such-code"}, 1);
  CHECK(says(said, "note:accept-unused"));
}

TEST_CASE("prepare: a set that even an unlocked phone refuses is no kit, whatever is accepted") {
  Bench bench;
  bench.images["vbmeta"][11] = 9;  // a minor version that no loader knows
  write(bench.dir / "ota.zip", bench.ota());
  const auto before = bench.dir.names();
  for (const std::vector<std::string>& more :
       {std::vector<std::string>{}, {"--accept", "would-refuse"}, {"--sheet", "sheet.toml"}}) {
    std::vector<std::string> words{"-r", "r.toml"};
    words.insert(words.end(), more.begin(), more.end());
    const Json refused = bench.prepare(words, 1);
    CHECK(refused["error"]["code"] == "would-refuse");
    CHECK(bench.dir.names() == before);
  }
}

TEST_CASE("check KIT: a file outside of it is none of its own, though its digest is right") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  write(bench.dir / "x", "somebody's");
  Json manifest = Json::parse(read(bench.dir / "kit/kit.json"));
  const std::string sum = hex_of(sha256("somebody's"));
  manifest["images"][0]["flash"]["file"] = "../x";
  manifest["images"][0]["flash"]["size"] = 10;
  manifest["images"][0]["flash"]["sha256"] = sum;
  const std::string old_sum = hex_of(sha256(read(bench.dir / "kit/kit.json"))),
                    now = manifest.dump(2);
  write(bench.dir / "kit/kit.json", now);
  std::string digests = read(bench.dir / "kit/digests.txt");
  REQUIRE(digests.contains(old_sum));
  digests.replace(digests.find(old_sum), old_sum.size(), hex_of(sha256(now)));
  write(bench.dir / "kit/digests.txt", digests + sum + "  ../x\n");
  const Ran ran = program(bench.dir, {"check", "kit", "--json"});
  CHECK(ran.exit_code == 1);
  const Json told = Json::parse(ran.out);
  std::size_t outside = 0;
  for (const Json& one : told["findings"])
    if (one["code"] == "kit-file" && one["message"].get<std::string>().contains("outside"))
      ++outside;
  CHECK(outside >= 1);
}
