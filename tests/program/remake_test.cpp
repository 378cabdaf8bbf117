/// A kit made again from its firmware, and held against itself byte for byte.

#include "program/kits_bench.hpp"
#include "program/nginx.hpp"

namespace wexlo::test {
namespace fs = std::filesystem;

namespace {

const std::string kKey = (source_folder() / fs::path("demo/keys/korvale-demo.pem")).string();

void make_kit(const TempDir& dir, const KitWords& kit) {
  std::vector<std::string> words{"prepare"};
  words.insert(words.end(), kit.words.begin(), kit.words.end());
  words.insert(words.end(), {"-o", kit.kit});
  const Ran ran = program(dir, words);
  REQUIRE_MESSAGE(ran.exit_code == 0, ran.err, ran.out);
}

Json remade(const TempDir& dir, const std::string& kit, const std::string& firmware,
            std::vector<std::string> more = {}, int wanted = 0) {
  std::vector<std::string> words{"check", kit, "--remake", firmware, "--json"};
  words.insert(words.end(), more.begin(), more.end());
  const Ran ran = program(dir, words);
  CAPTURE(ran.out);
  CHECK(ran.exit_code == wanted);
  return Json::parse(ran.out);
}

/// In another folder, with one job, and with nothing left of what it was made from but the
/// firmware.
void is_made_again(const TempDir& dir, const KitWords& kit) {
  CAPTURE(kit.kit);
  make_kit(dir, kit);
  const TempDir other;
  fs::copy(dir / kit.kit, other / "got", fs::copy_options::recursive);
  fs::copy(dir / kit.words.front(), other / kit.words.front());
  const Ran ran =
      program(other, {"check", "got", "--remake", kit.words.front(), "--jobs", "1", "--json"});
  const Json document = Json::parse(ran.out);
  CAPTURE(document["findings"].dump(1));
  CHECK(document["result"]["remade"]["outcome"] == "same");
  CHECK(document["result"]["remade"]["differs"].empty());
  CHECK(document["result"]["remade"]["files"] == files_of(dir / kit.kit).size());
}

const std::string kOnBoot =
    "format = 1\nname = \"on-boot\"\n[parameters.word]\nabout = \"three letters\"\ndefault = "
    "\"abc\"\n[[edit]]\nkind = \"kernel-bytes\"\nfind_text = \"-own\"\nreplace_text = "
    "\"-${word}\"\n";

/// Settings that the other kits do not have.
std::vector<KitWords> set_kits(const Bench& bench) {
  const TempDir& dir = bench.dir;
  write(dir / "on-boot.toml", kOnBoot);
  write(dir / "own.img.gz", gzip(read(dir / "own-boot.img")));
  write(dir / "odd.img", noise(2 * kMiB + 5, 4));
  write(dir / "settings.toml", "technician = \"M. Reed\"\n");
  return {
      {"given-patched",
       {"ota.zip", "-r", "on-boot.toml", "--set", "word=xyz", "--with", "boot=own.img.gz"}},
      {"given-sealed",
       {"ota.zip", "-r", "r.toml", "--with", "boot=own-boot.img", "--key", kKey, "--sheet",
        "sheet.toml"}},
      {"odd",
       {"ota.zip", "-r", "r.toml", "-r", "flags.toml", "--sheet", "pieces.toml", "--with",
        "system=odd.img", "--wipe"}},
      {"back", {"ota.zip", "--stock", "--like", "plain"}},
      {"told",
       {"ota.zip", "-r", "r.toml", "--set", "arch=arm64", "--no-rehearsal", "--onto-foreign",
        "--accept", "mixed", "--slots", "current", "--config", "settings.toml"}},
  };
}

}  // namespace

TEST_CASE("remake: every kind of kit, elsewhere and with one job, gives the same bytes") {
  const Bench bench;
  for (const KitWords& kit : slotted_kits(bench))
    is_made_again(bench.dir, kit);
  for (const KitWords& kit : set_kits(bench))
    is_made_again(bench.dir, kit);
  // What was given and changed is kept beside what is written; what was not changed, once.
  CHECK(files_of(bench.dir / "given-patched").contains("given/boot.img"));
  CHECK(files_of(bench.dir / "given-sealed").contains("given/boot.img"));
  for (const char* kit : {"with", "system", "pieces", "odd", "install"})
    CHECK_FALSE(fs::exists(bench.dir / kit / "given"));
}

TEST_CASE("remake: kits for download mode, and of older phones") {
  const TempDir dir;
  for (const KitWords& kit : older_kits(dir))
    is_made_again(dir, kit);
}

TEST_CASE("remake: the same firmware behind a web server and in a zip") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml"}});
  fs::create_directory(dir / "www");
  fs::copy(dir / "ota.zip", dir / "www/renamed.zip");
  const Nginx server(dir);
  CHECK(remade(dir, "kit", server.url("renamed.zip"))["result"]["remade"]["outcome"] == "same");
  write(dir / "around.zip", zip({{"folder/other-name.zip", read(dir / "ota.zip")}}));
  CHECK(remade(dir, "kit", "around.zip")["result"]["remade"]["outcome"] == "same");
  // And the other way round: the kit of the wrapped one from what is in it.
  make_kit(dir, {"wrapped", {"around.zip", "-r", "r.toml", "--sheet", "sheet.toml"}});
  CHECK(remade(dir, "wrapped", "ota.zip")["result"]["remade"]["outcome"] == "same");
}

TEST_CASE("remake: a download-mode package in a zip: the plan names its parts as they were") {
  const TempDir dir;
  make_kit(dir, older_kits(dir)[1]);
  write(dir / "set.zip", zip({{"any-name.tar.md5", read(dir / "plumbline.tar.md5")}}));
  CHECK(remade(dir, "plumbline", "set.zip")["result"]["remade"]["outcome"] == "same");
}

TEST_CASE("remake: one byte changed in any file of the kit is found and named") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  slotted_kits(bench);
  set_kits(bench);
  make_kit(dir, {"kit",
                 {"ota.zip", "-r", "r.toml", "-r", "on-boot.toml", "-r", "flags.toml", "--sheet",
                  "pieces.toml", "--with", "boot=own-boot.img", "--with", "system=noise.img",
                  "--wipe"}});
  const auto names = files_of(dir / "kit");
  REQUIRE(names.contains("given/boot.img"));
  REQUIRE(names.contains("sheet.toml"));
  REQUIRE(names.contains("flash/system.piece-1.img"));
  int compared = 0;
  for (const std::string& name : names) {
    CAPTURE(name);
    const std::string whole = read(dir / ("kit/" + name));
    const std::size_t at = whole.size() / 2;
    std::string changed = whole;
    changed[at] ^= 1;
    write(dir / ("kit/" + name), changed);
    const Ran ran = program(dir, {"check", "kit", "--remake", "ota.zip", "--json"});
    write(dir / ("kit/" + name), whole);
    CHECK(ran.exit_code != 0);
    const Json document = Json::parse(ran.out);
    CAPTURE(document.dump(1));
    if (document.contains("error")) {
      CHECK(document["error"]["file"] == "kit/" + name);
      continue;
    }
    const bool named = std::ranges::any_of(document["findings"], [&](const Json& one) {
      return one["level"] == "problem" && one["where"] == name;
    });
    CHECK(named);
    // What the kit is made from is not compared with itself: that it was changed is told.
    for (const Json& row : document["result"]["remade"]["differs"])
      if (row["file"] == name) {
        CHECK(row["offset"] == at);
        CHECK(row["bytes"] == 1);
        ++compared;
      }
  }
  CHECK(compared >= 10);
  CHECK(remade(dir, "kit", "ota.zip")["result"]["remade"]["outcome"] == "same");
}

TEST_CASE("remake: a file that is gone, and one that the lists name and nothing makes") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml"}});
  const auto row = [&](const std::string& file) {
    const Json document = remade(dir, "kit", "ota.zip", {}, 1);
    for (const Json& one : document["result"]["remade"]["differs"])
      if (one["file"] == file) return one;
    return Json();
  };
  const std::string chain = read(dir / "kit/figures/chain.svg");
  fs::remove(dir / "kit/figures/chain.svg");
  const Json gone = row("figures/chain.svg");
  REQUIRE(gone.is_object());
  CHECK(gone["in_kit"] == false);
  CHECK(gone["made_again"] == true);
  CHECK(gone["offset"].is_null());
  write(dir / "kit/figures/chain.svg", chain);

  // One that the kit is made from: told beside all else that was checked.
  const std::string recipe = read(dir / "kit/recipes/1-tests.toml");
  fs::remove(dir / "kit/recipes/1-tests.toml");
  const Json without = remade(dir, "kit", "ota.zip", {}, 1);
  CHECK(without["result"]["remade"]["outcome"] == "not-made");
  CHECK(std::ranges::any_of(without["findings"], [](const Json& one) {
    return one["code"] == "remake-fails" && one["where"] == "recipes/1-tests.toml";
  }));
  write(dir / "kit/recipes/1-tests.toml", recipe);

  // Put in with its digest everywhere, so that no list tells of it.
  const std::string extra = "read me first", sum = hex_of(sha256(extra));
  write(dir / "kit/first.txt", extra);
  Json manifest = Json::parse(read(dir / "kit/kit.json"));
  const std::string before = hex_of(sha256(read(dir / "kit/kit.json")));
  manifest["files"].push_back({{"file", "first.txt"}, {"size", extra.size()}, {"sha256", sum}});
  write(dir / "kit/kit.json", manifest.dump(2) + "\n");
  std::string list = read(dir / "kit/digests.txt");
  list.replace(list.find(before), 64, hex_of(sha256(read(dir / "kit/kit.json"))));
  write(dir / "kit/digests.txt", list + sum + "  first.txt\n");
  CHECK(program(dir, {"check", "kit"}).exit_code == 0);
  const Json smuggled = row("first.txt");
  REQUIRE(smuggled.is_object());
  CHECK(smuggled["in_kit"] == true);
  CHECK(smuggled["made_again"] == false);
}

TEST_CASE("remake: the part that differs is named") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml", "-r", "flags.toml"}});
  const auto part = [&](const std::string& name, std::size_t at) {
    const std::string whole = read(dir / ("kit/" + name));
    std::string changed = whole;
    changed[at] ^= 2;
    write(dir / ("kit/" + name), changed);
    const Json document = remade(dir, "kit", "ota.zip", {}, 1);
    write(dir / ("kit/" + name), whole);
    for (const Json& row : document["result"]["remade"]["differs"])
      if (row["file"] == name) return row["part"].get<std::string>();
    return std::string("none");
  };
  CHECK(part("flash/init_boot.img", 4096 + 40).starts_with("ramdisk"));
  CHECK(part("flash/init_boot.img", 24) == "header");
  CHECK(part("flash/init_boot.img", (1u << 18) - 50) == "verified-boot footer");
  CHECK(part("flash/vbmeta.img", 123) == "header");
  const std::string plan = read(dir / "kit/plan.toml");
  CHECK(part("plan.toml", plan.find("device =") + 10) == "line 3");
  CHECK(part("plan.toml", plan.rfind("about =") + 10).ends_with("in [[back]]"));
  const std::string report = read(dir / "kit/report.json");
  CHECK(part("report.json", report.find("\"success\"") + 20).ends_with("plan[0].success"));
  const std::string page = read(dir / "kit/report.html");
  CHECK(part("report.html", page.find("id=\"back\"") + 60).ends_with("\"The way back\""));
}

TEST_CASE("remake: another firmware, and a kit that was made from other recipes") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  slotted_kits(bench);
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml"}});
  const Json other = remade(dir, "kit", "new.zip", {}, 1);
  CHECK(says(other, "problem:remake-fails"));
  CHECK(other["result"]["remade"]["outcome"] == "differs");
  // A recipe that was exchanged together with its digests: what it gives shows.
  const std::string manifest = read(dir / "kit/kit.json");
  const std::string recipe = read(dir / "kit/recipes/1-tests.toml");
  std::string forged = recipe;
  forged.replace(forged.find("path = \"init\""), 13, "path = \"tini\"");
  write(dir / "kit/recipes/1-tests.toml", forged);
  std::string named = manifest;
  const std::string old = hex_of(sha256(recipe));
  named.replace(named.find(old), old.size(), hex_of(sha256(forged)));
  write(dir / "kit/kit.json", named);
  const Json found = remade(dir, "kit", "ota.zip", {}, 1);
  CHECK(found["result"]["remade"]["outcome"] != "same");
  write(dir / "kit/recipes/1-tests.toml", recipe);
  write(dir / "kit/kit.json", manifest);

  CHECK(remade(dir, "kit", "none.zip", {}, 5)["error"]["code"] == "not-found");
  write(dir / "text.zip", "no firmware at all");
  CHECK(remade(dir, "kit", "text.zip", {}, 3)["error"]["file"] == "text.zip");
}

TEST_CASE("remake: a kit of another version of Wexlo says which one it needs") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml"}});
  const std::string manifest = read(dir / "kit/kit.json");
  const auto made_by = [&](const std::string& version) {
    std::string changed = manifest;
    const std::size_t at = changed.find("\"by\": \"") + 7;
    changed.replace(at, changed.find('"', at) - at, version);
    write(dir / "kit/kit.json", changed);
    const std::string list = read(dir / "kit/digests.txt");
    const std::string old = hex_of(sha256(manifest));
    std::string relisted = list;
    relisted.replace(relisted.find(old), old.size(), hex_of(sha256(changed)));
    write(dir / "kit/digests.txt", relisted);
    return list;
  };
  const std::string list = made_by("0.0.9");
  // Where no byte differs, the version is no matter.
  CHECK(remade(dir, "kit", "ota.zip")["result"]["remade"]["outcome"] == "same");
  CHECK(remade(dir, "kit", "ota.zip")["result"]["remade"]["made_by"] == "0.0.9");
  std::string plan = read(dir / "kit/plan.txt");
  plan.insert(0, "An older sentence.\n");
  write(dir / "kit/plan.txt", plan);
  const Json document = remade(dir, "kit", "ota.zip", {}, 1);
  CHECK(says(document, "warning:remake-version"));
  CHECK(says(document, "warning:remake-differs"));
  CHECK(says(document, "problem:kit-file"));
  CHECK(document.dump().find("Take Wexlo 0.0.9") != std::string::npos);

  // One that did not keep how it was made.
  Json older = Json::parse(manifest);
  older.erase("made");
  write(dir / "kit/kit.json", older.dump(2) + "\n");
  const Json refused = remade(dir, "kit", "ota.zip", {}, 1);
  CHECK(refused["result"]["remade"]["outcome"] == "not-made");
  CHECK(refused["result"]["remade"]["made_by"].is_null());
  CHECK(says(refused, "problem:remake-fails"));
}

TEST_CASE("remake: what came later is no part of it, and nothing is left behind") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml"}});
  write(dir / "seen.txt", std::string("[ro.build.fingerprint]: [") + kBuild + "]\n");
  REQUIRE(program(dir, {"confirm", "kit", "seen.txt"}).exit_code < 2);
  REQUIRE(fs::exists(dir / "kit/record.toml"));
  write(dir / "kit/flash-log.jsonl", read(dir / "kit/flash-log.jsonl.none"));
  fs::create_directory(dir / "tmp");
  const Ran ran = shell("TMPDIR=$PWD/tmp " + built_program() + " check kit --remake ota.zip",
                        dir.path().string());
  CHECK(ran.exit_code == 0);
  CHECK(ran.out.find("the same") != std::string::npos);
  CHECK(fs::is_empty(dir / "tmp"));
  // With the phone's key among the options: it signs nothing.
  CHECK(remade(dir, "kit", "ota.zip",
               {"--against", "ota.zip", "--lock-state",
                "unlocked"})["result"]["remade"]["outcome"] == "same");
}

TEST_CASE("remake: signed by an owner's key: the kit's signatures prove it, without the key") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml", "--key", kKey}});
  CHECK(remade(dir, "kit", "ota.zip", {"--key", kKey})["result"]["remade"]["outcome"] == "same");
  // Other bytes have no signature; with the key itself they are made, and compared.
  Bench other;
  const std::string ramdisk =
      CpioBytes{}.entry("init", elf("arm64", "another stock"), 0100750, 0, 1).done();
  other.images["init_boot"] =
      with_footer(BootBytes{.ramdisk = lz4_legacy(ramdisk)}.done(), "init_boot", 1u << 18);
  write(dir / "new.zip", other.ota());
  const Json without = remade(dir, "kit", "new.zip", {}, 1);
  CHECK(without["result"]["remade"]["outcome"] == "not-made");
  CHECK(without.dump().find("has not signed these bytes") != std::string::npos);
  CHECK(remade(dir, "kit", "new.zip", {"--key", kKey}, 1)["result"]["remade"]["outcome"] ==
        "differs");
}

TEST_CASE("remake: what the command line asks in vain is told") {
  const Bench bench;
  const TempDir& dir = bench.dir;
  make_kit(dir, {"kit", {"ota.zip", "-r", "r.toml"}});
  write(dir / "boot.img", bench.images.at("boot"));
  CHECK(program_json(dir, {"check", "boot.img", "--remake", "ota.zip"}, 2)["error"]["code"] ==
        "usage");
  CHECK(program_json(dir, {"check", "kit", "boot.img", "--remake", "ota.zip"},
                     2)["error"]["code"] == "usage");
  CHECK(program_json(dir, {"check", "kit", "--base", "ota.zip"}, 2)["error"]["code"] == "usage");
}

}  // namespace wexlo::test
