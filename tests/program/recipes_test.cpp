/// Recipes from the command line: what is refused and how, the way back, dry runs, kits of an older
/// build.

#include "program/support.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;

namespace {

std::string recipe_of(const std::string& edits) {
  return "format = 1\nname = \"bench\"\n" + edits;
}

std::string edit_of(const std::string& keys) {
  return recipe_of("[[edit]]\n" + keys);
}

std::string ramdisk_with(const std::string& init) {
  return CpioBytes{}
      .folder("system")
      .folder("system/etc")
      .folder("system/etc/ramdisk")
      .entry("init", init, 0100750, 0, 1)
      .file("system/etc/ramdisk/build.prop", "ro.debuggable=0\n")
      .done();
}

/// One image and whatever a recipe may want.
struct RecipeBench {
  RecipeBench() {
    stock = with_footer(BootBytes{.ramdisk = gzip(ramdisk_with(elf("arm64", "stock")))}.done(),
                        "init_boot", 1u << 17);
    write(dir / "init_boot.img", stock);
    write(dir / "hello", elf("arm64", "the add-on"));
    write(dir / "pack.zip", zip({{"lib/arm64/hello", elf("arm64", "packed")},
                                 {"lib/x86_64/hello", elf("x86_64", "packed")}}));
  }
  TempDir dir;
  std::string stock;

  [[nodiscard]] Json patch(const std::string& recipe, int wanted,
                           std::vector<std::string> more = {}) const {
    write(dir / "r.toml", recipe);
    std::vector<std::string> words{"patch", "init_boot.img", "-r", "r.toml", "-o", "out.img"};
    words.insert(words.end(), more.begin(), more.end());
    return program_json(dir, words, wanted);
  }
};

}  // namespace

TEST_CASE("patch: each mistake has its exit code and its words, and nothing is written") {
  const RecipeBench bench;
  struct Row {
    const char* what;
    std::string recipe;
    int exit_code;
    const char* code;
    const char* says;
  };
  const Row rows[] = {
      {"matches nothing", edit_of("kind = \"remove\"\npath = \"nowhere\"\n"), 1, "no-match",
       "matches nothing"},
      {"a pattern that is not there",
       edit_of("kind = \"line-replace\"\nfile = \"system/etc/ramdisk/build.prop\"\n"
               "containing = \"none\"\nwith = [\"x\"]\n"),
       1, "no-match", "matches nothing"},
      {"a wrong count",
       edit_of("kind = \"line-replace\"\nfile = \"system/etc/ramdisk/build.prop\"\n"
               "containing = \"ro.\"\nwith = [\"x\"]\ncount = 2\n"),
       3, "bad-value", "another number of lines"},
      {"a missing file", edit_of("kind = \"put\"\npath = \"init\"\nfrom = \"gone\"\n"), 3,
       "bad-value", "line 6"},
      {"a path that an archive has not",
       edit_of("kind = \"put\"\npath = \"init\"\nfrom = \"pack.zip!/lib/arm/hello\"\n"), 3,
       "bad-value", "no file of that path"},
      {"a path for another processor",
       edit_of("kind = \"put\"\npath = \"init\"\nfrom = \"pack.zip!/lib/x86_64/hello\"\n"), 3,
       "mismatch", "another processor"},
      {"needs another processor",
       recipe_of("[needs]\narch = [\"x86_64\"]\n[[edit]]\nkind = \"remove\"\npath = \"init\"\n"), 3,
       "mismatch", "is not for this image"},
      {"another format", "format = 2\nname = \"x\"\n", 4, "unsupported", "another format"},
      {"another kind", edit_of("kind = \"conjure\"\n"), 4, "unsupported", "no such kind"},
      {"a path that leaves", edit_of("kind = \"put\"\npath = \"a/../../b\"\nfrom = \"hello\"\n"), 3,
       "unsafe-path", "leaves the ramdisk"},
      {"a target that leaves", edit_of("kind = \"move\"\npath = \"init\"\nto = \"../init\"\n"), 3,
       "unsafe-path", "leaves the ramdisk"},
      {"a folder in the way", edit_of("kind = \"put\"\npath = \"system\"\nfrom = \"hello\"\n"), 3,
       "bad-value", "a folder is there"},
      {"a field that follows from others",
       edit_of("kind = \"header\"\nset = { ramdisk_size = 1 }\n"), 4, "unsupported",
       "cannot be set"},
      {"a misspelled key", edit_of("kind = \"remove\"\npath = \"init\"\nmay_mis = true\n"), 3,
       "bad-value", "may_miss"},
  };
  const auto before = [&] {
    auto names = bench.dir.names();
    std::erase(names, "r.toml");
    return names;
  };
  const auto names = before();
  for (const Row& row : rows) {
    CAPTURE(row.what);
    const Json error = bench.patch(row.recipe, row.exit_code)["error"];
    CHECK(error["code"] == row.code);
    CHECK(error["message"].get<std::string>().find(row.says) != std::string::npos);
    CHECK(before() == names);
    CHECK(read(bench.dir / "init_boot.img") == bench.stock);
  }
}

TEST_CASE("patch: a dry run shows places, texts and reasons, and writes nothing") {
  const RecipeBench bench;
  const std::string recipe = edit_of(
      "kind = \"property\"\nset = { \"ro.debuggable\" = \"1\" }\n[[edit]]\n"
      "kind = \"put\"\npath = \"init\"\nfrom = \"hello\"\nkeep_stock = true\n[[edit]]\n"
      "kind = \"remove\"\npath = \"init\"\nwhen = { layout = [\"system-root\"] }\n");
  const Json dry = bench.patch(recipe, 0, {"--dry-run"});
  CHECK_FALSE(std::filesystem::exists(bench.dir / "out.img"));
  const Json edits = dry["result"]["edits"];
  REQUIRE(edits.size() == 3);
  CHECK(edits[0]["effects"][0]["where"] == "/system/etc/ramdisk/build.prop:ro.debuggable");
  CHECK(edits[0]["effects"][0]["before"] == "0");
  CHECK(edits[0]["effects"][0]["after"] == "1");
  CHECK(edits[0]["why"].get<std::string>().find("generic") != std::string::npos);
  CHECK(edits[2]["outcome"] == "skipped");
  CHECK(edits[2]["why"].get<std::string>().find("system-root") != std::string::npos);
  CHECK(dry["result"]["way_back"]["in_image"] == true);
  CHECK(dry["findings"][0]["code"] == "protection-debugging");
  const Ran text = program(bench.dir, {"patch", "init_boot.img", "-r", "r.toml", "--dry-run"});
  CHECK(text.out.find("because init_boot: ") != std::string::npos);
  CHECK(text.out.find("dry run: nothing was written") != std::string::npos);
  // The real run says the same, with the byte ranges.
  const Json done = bench.patch(recipe, 0);
  CHECK(done["result"]["edits"] == edits);
  CHECK(done["result"]["ranges"] == dry["result"]["ranges"]);
  CHECK(done["result"]["ranges"].size() > 1);
}

TEST_CASE("patch: ${arch} is the image's processor, the recipe's word for it, or what --set says") {
  const RecipeBench bench;
  const std::string recipe =
      edit_of("kind = \"put\"\npath = \"tool\"\nfrom = \"pack.zip!/lib/${arch}/hello\"\n");
  CHECK(bench.patch(recipe, 0)["result"]["edits"][0]["summary"] ==
        "put pack.zip!/lib/arm64/hello at /tool");
  CHECK(bench.patch(recipe, 3, {"--set", "arch=riscv64", "--force"})["error"]["code"] ==
        "bad-value");
  CHECK(bench.patch(recipe, 2, {"--set", "arch=pdp11", "--force"})["error"]["code"] == "usage");
  write(bench.dir / "init_boot.img", BootBytes{.ramdisk = ramdisk_with("no program")}.done());
  CHECK(bench.patch(recipe, 1, {"--force"})["error"]["code"] == "no-target");
  CHECK(bench.patch(recipe, 0, {"--set", "arch=x86_64", "--force"})["ok"] == true);
}

TEST_CASE("restore: from the image, from a copy, from a kit; and what has no way back says so") {
  const RecipeBench bench;
  const std::string recipe = edit_of("kind = \"put\"\npath = \"init\"\nfrom = \"hello\"\n");
  (void)bench.patch(recipe, 0);
  const auto restore = [&](std::vector<std::string> words, int wanted) {
    words.insert(words.begin(), "restore");
    return program_json(bench.dir, words, wanted);
  };
  const Json done = restore({"out.img", "-o", "back.img"}, 0)["result"];
  CHECK(done["from"] == "image");
  CHECK(done["sha256"] == hex_of(sha256(bench.stock)));
  CHECK(done["undone"][0] == "bench: put hello at /init");
  CHECK(read(bench.dir / "back.img") == bench.stock);
  CHECK(restore({"out.img", "-o", "back.img"}, 5)["error"]["code"] == "exists");
  CHECK(restore({"out.img", "--dry-run"}, 0)["result"]["file"].is_null());
  CHECK(restore({"out.img", "--stock", "init_boot.img", "-o", "copy.img"}, 0)["result"]["from"] ==
        "stock-copy");
  // Another copy is not the stock image that was recorded.
  write(bench.dir / "other.img", BootBytes{.ramdisk = "x"}.done());
  CHECK(restore({"out.img", "--stock", "other.img", "-o", "no.img"}, 3)["error"]["code"] ==
        "digest-mismatch");
  // Never patched.
  CHECK(restore({"init_boot.img", "-o", "no.img"}, 1)["error"]["code"] == "no-way-back");
  // Changed after it was patched: what comes out is not the stock image.
  std::string changed = read(bench.dir / "out.img");
  changed.replace(changed.find("console=ttyKV0"), 14, "console=ttyKV1");
  write(bench.dir / "changed.img", changed);
  const Ran after = program(bench.dir, {"restore", "changed.img", "-o", "no.img"});
  CHECK(after.exit_code == 0);  // the header is the stock image's again, whatever became of it
  CHECK(read(bench.dir / "no.img") == bench.stock);
  // A way back that does not fit is told before, and the copy is the way.
  const std::string full =
      with_footer(BootBytes{.ramdisk = gzip(ramdisk_with(elf("arm64", noise(30000))))}.done(),
                  "init_boot", 49152);
  write(bench.dir / "init_boot.img", full);
  const std::string swap = edit_of("kind = \"put\"\npath = \"init\"\nfrom = \"large\"\n");
  write(bench.dir / "large", elf("arm64", noise(24000, 5)));
  const Json tight = bench.patch(swap, 0, {"--force", "--dry-run"});
  CHECK(tight["result"]["way_back"]["in_image"] == false);
  CHECK(tight["findings"][0]["code"] == "way-back-elsewhere");
  (void)bench.patch(swap, 0, {"--force"});
  CHECK(restore({"out.img", "-o", "tight.img"}, 1)["error"]["code"] == "no-way-back");
  CHECK(restore({"out.img", "--stock", "init_boot.img", "-o", "tight.img"}, 0)["ok"] == true);
  CHECK(read(bench.dir / "tight.img") == full);
}

TEST_CASE("patch: another tool's patch is refused with its signs, unless that is allowed") {
  const RecipeBench bench;
  const std::string foreign = with_footer(
      BootBytes{.ramdisk = gzip(CpioBytes{}
                                    .entry("init", elf("arm64", "theirs"), 0100750, 0, 1)
                                    .folder(".kept")
                                    .file(".kept/init", elf("arm64", "stock"), 0100750)
                                    .done())}
          .done(),
      "init_boot", 1u << 17);
  write(bench.dir / "init_boot.img", foreign);
  const std::string recipe = edit_of("kind = \"put\"\npath = \"x\"\nfrom = \"hello\"\n");
  const Json error = bench.patch(recipe, 1)["error"];
  CHECK(error["code"] == "foreign-patch");
  CHECK(error["found"].get<std::string>().find("/.kept/init") != std::string::npos);
  CHECK_FALSE(std::filesystem::exists(bench.dir / "out.img"));
  CHECK(bench.patch(recipe, 0, {"--onto-foreign"})["ok"] == true);
  const Json back = program_json(bench.dir, {"restore", "out.img", "-o", "back.img"});
  CHECK(back["findings"][0]["message"].get<std::string>().find("another tool") !=
        std::string::npos);
  CHECK(read(bench.dir / "back.img") == foreign);
}

TEST_CASE("recipes --check: every mistake with line and column, and files beside it") {
  const RecipeBench bench;
  write(bench.dir / "bad.toml",
        "format = 1\nname = \"x\"\nabuot = \"typo\"\n"
        "[parameters.unused]\ndefault = \"a\"\n"
        "[[edit]]\nkind = \"put\"\npath = \"../out\"\nfrom = \"gone\"\nmode = 99999\n"
        "[[edit]]\nkind = \"conjure\"\n"
        "[[edit]]\nkind = = 3\n"
        "[[edit]]\nkind = \"chmod\"\npath = \"init\"\n");
  const Ran ran = program(bench.dir, {"recipes", "--check", "bad.toml", "--json"});
  CHECK(ran.exit_code == 3);
  const Json mistakes = Json::parse(ran.out)["result"]["mistakes"];
  const auto has = [&](int line, const std::string& words) {
    for (const Json& mistake : mistakes)
      if (mistake["line"] == line && mistake["column"].get<int>() > 0 &&
          mistake["message"].get<std::string>().find(words) != std::string::npos)
        return true;
    return false;
  };
  CHECK(has(3, "unknown key \"abuot\"; \"about\" is meant"));
  CHECK(has(4, "used nowhere"));
  CHECK(has(8, "leaves the ramdisk"));
  CHECK(has(9, "gone"));
  CHECK(has(10, "mode is out of range"));
  CHECK(has(12, "no such kind of edit"));
  CHECK(mistakes.dump().find("\"line\":14") != std::string::npos);  // the broken line
  CHECK(has(15, "nothing is set"));
  const Ran text = program(bench.dir, {"recipes", "--check", "bad.toml"});
  CHECK(text.out.find("bad.toml:8:") != std::string::npos);
  write(bench.dir / "good.toml", edit_of("kind = \"remove\"\npath = \"init\"\n"));
  CHECK(program(bench.dir, {"recipes", "--check", "good.toml"}).exit_code == 0);
  CHECK(program(bench.dir, {"recipes", "--check", "none.toml"}).exit_code == 5);
  // A parameter without a value is not the recipe's mistake.
  for (const char* name : {"@fstab-open", "@ramdisk-always", "@start-program"})
    CHECK(program(bench.dir, {"recipes", "--check", name}).exit_code == 0);
  const Ran wrong =
      program(bench.dir, {"recipes", "--check", "@start-program", "--set", "program=gone"});
  CHECK(wrong.exit_code == 3);
  CHECK(wrong.out.find("gone") != std::string::npos);
}

TEST_CASE(
    "patch: edits that belong elsewhere are told with their image, and their files not asked for") {
  const RecipeBench bench;
  write(bench.dir / "flags.toml",
        edit_of("kind = \"vbmeta-flags\"\nset = [\"verification-disabled\"]\n"));
  write(bench.dir / "elsewhere.toml",
        edit_of("kind = \"put\"\npartition = \"vendor_boot\"\npath = \"x\"\nfrom = \"gone\"\n"));
  write(bench.dir / "here.toml", edit_of("kind = \"chmod\"\npath = \"init\"\nmode = 0o700\n"));
  const Ran ran = program(bench.dir, {"patch", "init_boot.img", "-r", "here.toml", "-r",
                                      "flags.toml", "-r", "elsewhere.toml", "-o", "out.img"});
  CAPTURE(ran.err);
  CHECK(ran.exit_code == 0);
  CHECK(ran.out.find("vbmeta") != std::string::npos);
  CHECK(ran.out.find("vendor_boot") != std::string::npos);
  const Ran more = program(bench.dir, {"patch", "init_boot.img", "-r", "here.toml", "-r",
                                       "flags.toml", "--dry-run", "--verbose"});
  CHECK(more.out.find("vbmeta") != std::string::npos);
  // Nothing for this image at all is no silent copy.
  CHECK(program(bench.dir, {"patch", "init_boot.img", "-r", "flags.toml", "-o", "no.img"})
            .exit_code == 1);
  CHECK_FALSE(std::filesystem::exists(bench.dir / "no.img"));
}

TEST_CASE("prepare --like: the kit's own recipes, without the files they came from") {
  const TempDir dir;
  const auto build = [&](const std::string& name, const std::string& init,
                         const std::string& cmdline) {
    const std::string init_boot = with_footer(
        BootBytes{.ramdisk = gzip(ramdisk_with(elf("arm64", init)))}.done(), "init_boot", 1u << 17);
    const std::string boot =
        with_footer(BootBytes{.kernel = arm64_kernel("6.1.1-" + name), .cmdline = cmdline}.done(),
                    "boot", 1u << 18);
    PayloadBytes payload;
    payload.partitions = {partition_of("boot", boot, 8), partition_of("init_boot", init_boot, 1)};
    write(dir / (name + ".bin"), payload.done());
  };
  build("old", "first", "quiet");
  build("new", "second", "loud");
  write(dir / "hello", elf("arm64", "the add-on"));
  write(dir / "pack.zip", zip({{"arm64/a", "one"}, {"arm64/b", "two"}}));
  write(dir / "r.toml",
        recipe_of("[parameters.program]\nfile = true\n[[edit]]\nkind = \"put\"\npath = \"init\"\n"
                  "from = \"${program}\"\nkeep_stock = true\n[[edit]]\nkind = \"put-tree\"\n"
                  "path = \"tide\"\nfrom = \"pack.zip!/${arch}\"\n"));
  CHECK(program(dir, {"prepare", "old.bin", "-r", "r.toml", "--set", "program=hello", "--slots",
                      "both", "-o", "kit"})
            .exit_code == 0);
  for (const char* name : {"hello", "pack.zip", "r.toml"})
    std::filesystem::remove(dir / name);
  const Json dry = program_json(dir, {"prepare", "new.bin", "--like", "kit", "--dry-run"});
  CHECK(dry["result"]["kit"].is_null());
  const Json result =
      program_json(dir, {"prepare", "new.bin", "--like", "kit", "-o", "kit2"})["result"];
  CHECK(result["differences"] == dry["result"]["differences"]);
  std::string found;
  for (const Json& one : result["differences"])
    found += one["partition"].get<std::string>() + " " + one["what"].get<std::string>() + ";";
  CHECK(found == "boot kernel;boot cmdline;init_boot init;");
  CHECK(result["plan"].dump().find("other") != std::string::npos);  // both slots, as before
  // The same recipes on the same build give the same kit.
  CHECK(program(dir, {"prepare", "old.bin", "--like", "kit", "-o", "kit3"}).exit_code == 0);
  CHECK(shell("diff -r kit kit3", dir.path().string()).exit_code == 0);
  // Nor is one that names a file outside of itself, whatever its digest.
  REQUIRE(shell("cp -r kit kit5", dir.path().string()).exit_code == 0);
  const std::string name =
      std::filesystem::directory_iterator(dir / "kit5/recipes/files")->path().filename().string();
  write(dir / "outside", read(dir / ("kit5/recipes/files/" + name)));
  std::string manifest = read(dir / "kit5/kit.json");
  const std::string inside = "recipes/files/" + name;
  REQUIRE(manifest.contains(inside));
  manifest.replace(manifest.find(inside), inside.size(), "../outside");
  write(dir / "kit5/kit.json", manifest);
  CHECK(program_json(dir, {"prepare", "new.bin", "--like", "kit5", "-o", "kit6"},
                     3)["error"]["code"] == "unsafe-path");
  // A kit that was touched is not trusted, and recipes cannot be given twice.
  for (const auto& entry : std::filesystem::directory_iterator(dir / "kit/recipes/files"))
    write(entry.path(), "changed");
  CHECK(program_json(dir, {"prepare", "new.bin", "--like", "kit", "-o", "kit4"},
                     3)["error"]["message"]
            .get<std::string>()
            .find("was changed") != std::string::npos);
  CHECK(program(dir, {"prepare", "new.bin", "--like", "kit", "-r", "@fstab-open", "-o", "kit4"})
            .exit_code == 2);
  CHECK(program(dir, {"prepare", "new.bin", "-o", "kit4"}).exit_code == 2);
  CHECK(program(dir, {"prepare", "new.bin", "--like", ".", "-o", "kit4"}).exit_code == 3);
  CHECK_FALSE(std::filesystem::exists(dir / "kit4"));
}
