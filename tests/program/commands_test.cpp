#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;

namespace {

constexpr const char* kRecipe =
    "format = 1\nname = \"tests\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"hello\"\n"
    "keep_stock = true\n[[edit]]\nkind = \"vbmeta-flags\"\nset = [\"verification-disabled\"]\n";

/// A package, its images and a recipe in a folder.
struct CommandBench {
  CommandBench() {
    init_boot = with_footer(BootBytes{.ramdisk = lz4_legacy(first_ramdisk())}.done(), "init_boot",
                            1u << 17);
    boot = with_footer(BootBytes{.kernel = noise(60000)}.done(), "boot", 1u << 18);
    vbmeta_image = padded(vbmeta(property_descriptor("a", "b"), 0, 1), 4096);
    payload.partitions = {partition_of("boot", boot, 8), partition_of("init_boot", init_boot, 1),
                          partition_of("vbmeta", vbmeta_image, 0)};
    write(dir / "ota.zip", ota());
    write(dir / "init_boot.img", init_boot);
    write(dir / "boot.img", boot);
    write(dir / "vbmeta.img", vbmeta_image);
    write(dir / "recipe.toml", kRecipe);
    write(dir / "hello", elf("arm64", "the add-on"));
  }
  [[nodiscard]] std::string ota() const {
    return zip(
        {{"META-INF/com/android/metadata",
          "post-build=korvale/gnomon/x\npre-device=gnomon\npost-security-patch-level=2026-09-05\n"},
         {"payload.bin", payload.done()}});
  }
  TempDir dir;
  PayloadBytes payload;
  std::string boot, init_boot, vbmeta_image;
};

}  // namespace

TEST_CASE("inspect: a package, as text and as JSON") {
  const CommandBench bench;
  const Json item = program_json(bench.dir, {"inspect", "ota.zip"})["result"]["items"][0];
  CHECK(item["kind"] == "ota-zip");
  CHECK(item["layers"][0]["kind"] == "zip");
  CHECK(item["layers"][1]["kind"] == "payload");
  REQUIRE(item["partitions"].size() == 3);
  CHECK(item["partitions"][1]["name"] == "init_boot");
  CHECK(item["partitions"][1]["size"] == 1u << 17);
  CHECK(item["build"]["fingerprint"] == "korvale/gnomon/x");
  CHECK(item["build"]["device"] == "gnomon");
  CHECK(item["build"]["patch_level"] == "2026-09-05");
  CHECK(item["package"] == "full");
  const Ran text = program(bench.dir, {"inspect", "ota.zip"});
  CHECK(text.exit_code == 0);
  CHECK(text.out.find("init_boot") != std::string::npos);
  CHECK(text.err.empty());
}

TEST_CASE("inspect: an image's header, parts, footer and origin") {
  const CommandBench bench;
  const Json items =
      program_json(bench.dir, {"inspect", "init_boot.img", "vbmeta.img"})["result"]["items"];
  REQUIRE(items.size() == 2);
  const Json& image = items[0]["image"];
  CHECK(items[0]["kind"] == "init_boot");
  CHECK(image["header_version"] == 4);
  CHECK(image["page_size"] == 4096);
  CHECK(image["os_version"] == "16.0.0");
  CHECK(image["patch_level"] == "2020-10");
  CHECK(image["cmdline"] == "console=ttyKV0");
  CHECK(image["parts"][0]["name"] == "ramdisk");
  CHECK(image["parts"][0]["offset"] == 4096);
  CHECK(image["parts"][0]["compression"] == "lz4-legacy");
  CHECK(image["parts"][0]["sha256"] == hex_of(sha256(lz4_legacy(first_ramdisk()))));
  CHECK(image["origin"] == "pristine");
  CHECK(image["footer"]["digest_matches"] == true);
  CHECK(items[1]["image"]["vbmeta"]["algorithm"] == "sha256-rsa2048");
  CHECK(items[1]["image"]["vbmeta"]["hash_matches"] == false);  // filler bytes stand there
  CHECK(items[1]["image"]["origin"] == "unknown");
  CHECK(items[1]["image"]["vbmeta"]["descriptors"][0]["key"] == "a");
}

TEST_CASE("extract: the boot chain by default, named partitions, verified") {
  const CommandBench bench;
  const Json all =
      program_json(bench.dir, {"extract", "ota.zip", "-o", "out"})["result"]["partitions"];
  REQUIRE(all.size() == 3);
  CHECK(all[0]["name"] == "boot");
  CHECK(all[1]["file"] == "out/init_boot.img");
  CHECK(all[1]["size"] == 1u << 17);
  CHECK(all[1]["sha256"] == hex_of(sha256(bench.init_boot)));
  CHECK(all[1]["verified"] == true);
  CHECK(read(bench.dir / "out/init_boot.img") == bench.init_boot);
  CHECK(read(bench.dir / "out/boot.img") == bench.boot);
  const Json one = program_json(bench.dir, {"extract", "ota.zip", "vbmeta", "-o", "one"});
  CHECK(one["result"]["partitions"].size() == 1);
  CHECK(read(bench.dir / "one/vbmeta.img") == bench.vbmeta_image);
}

TEST_CASE("extract: a damaged blob: exit 3, the partition does not appear, and nothing else") {
  CommandBench bench;
  bench.payload.partitions[1].operations[2].sha256 = sha256("another");
  write(bench.dir / "bad.zip", bench.ota());
  const auto before = bench.dir.names();
  const Json error = program_json(bench.dir, {"extract", "bad.zip", "-o", "out"}, 3)["error"];
  CHECK(error["code"] == "digest-mismatch");
  CHECK(error["file"] == "bad.zip!payload.bin");
  CHECK(error["offset"].is_number());
  CHECK(error["expected"] == hex_of(sha256("another")));
  CHECK(error["found"].get<std::string>().size() == 64);
  CHECK(bench.dir.names() == before);
}

TEST_CASE("extract: without a promised digest the image's own is told, as not verified") {
  CommandBench bench;
  bench.payload.partitions[2].sha256 = "";
  write(bench.dir / "bare.zip", bench.ota());
  const Json document = program_json(bench.dir, {"extract", "bare.zip", "vbmeta", "-o", "out"});
  const Json& one = document["result"]["partitions"][0];
  CHECK(one["verified"] == false);
  CHECK(one["sha256"] == hex_of(sha256(bench.vbmeta_image)));
  CHECK(document["findings"][0]["code"] == "no-digest");
}

TEST_CASE("extract: what is there is kept, unless --force") {
  const CommandBench bench;
  write(bench.dir / "out/vbmeta.img", "mine");
  const Json error = program_json(bench.dir, {"extract", "ota.zip", "-o", "out"}, 5)["error"];
  CHECK(error["code"] == "exists");
  CHECK(read(bench.dir / "out/vbmeta.img") == "mine");
  CHECK_FALSE(std::filesystem::exists(bench.dir / "out/boot.img"));
  CHECK(program(bench.dir, {"extract", "ota.zip", "-o", "out", "--force"}).exit_code == 0);
  CHECK(read(bench.dir / "out/vbmeta.img") == bench.vbmeta_image);
}

TEST_CASE("extract: partitions that are not there, packages that are none") {
  const CommandBench bench;
  const Json error =
      program_json(bench.dir, {"extract", "ota.zip", "modem", "-o", "out"}, 5)["error"];
  CHECK(error["found"] == "boot, init_boot, vbmeta");
  CHECK(program(bench.dir, {"extract", "recipe.toml", "-o", "out"}).exit_code == 3);
  CHECK(program(bench.dir, {"extract", "none.zip", "-o", "out"}).exit_code == 5);
  CHECK_FALSE(std::filesystem::exists(bench.dir / "out"));
}

TEST_CASE("unpack and repack: the same bytes, and an edit is listed") {
  const CommandBench bench;
  CHECK(program(bench.dir, {"unpack", "init_boot.img", "-o", "parts"}).exit_code == 0);
  const Json same = program_json(bench.dir, {"repack", "parts", "-o", "again.img"});
  CHECK(same["result"]["changed"] == false);
  CHECK(read(bench.dir / "again.img") == bench.init_boot);
  write(bench.dir / "parts/tree/motd", "hello");
  const Json changed = program_json(bench.dir, {"repack", "parts", "-o", "new.img"});
  CHECK(changed["result"]["changes"][0]["what"] == "added");
  CHECK(changed["result"]["changes"][0]["place"] == "motd");
  CHECK(program(bench.dir, {"repack", "parts", "-o", "new.img"}).exit_code == 5);
  CHECK(program(bench.dir, {"unpack", "init_boot.img", "-o", "parts"}).exit_code == 5);
  CHECK(read(bench.dir / "parts/tree/motd") == "hello");
}

TEST_CASE("patch: writes the image, tells its edits and ranges, and finds nothing to do again") {
  const CommandBench bench;
  const Json first = program_json(
      bench.dir, {"patch", "init_boot.img", "-r", "recipe.toml", "-o", "patched.img"})["result"];
  CHECK(first["changed"] == true);
  CHECK(first["edits"][0]["outcome"] == "applied");
  CHECK(first["edits"][1]["outcome"] == "elsewhere");
  CHECK_FALSE(first["ranges"].empty());
  CHECK(first["entries"].size() == 6);  // init, three of the kept file's way, the journal
  const Json again = program_json(
      bench.dir, {"patch", "patched.img", "-r", "recipe.toml", "-o", "twice.img"})["result"];
  CHECK(again["changed"] == false);
  CHECK(again["ranges"].empty());
  CHECK(read(bench.dir / "twice.img") == read(bench.dir / "patched.img"));
  const Json origin =
      program_json(bench.dir, {"inspect", "patched.img"})["result"]["items"][0]["image"];
  CHECK(origin["origin"] == "journaled");
  CHECK(origin["journal"].size() == 1);
  CHECK(read(bench.dir / "init_boot.img") == bench.init_boot);  // the input is untouched
}

TEST_CASE("patch: a dry run writes nothing; an edit that matches nothing is exit 1") {
  const CommandBench bench;
  const auto before = bench.dir.names();
  CHECK(
      program(bench.dir, {"patch", "init_boot.img", "-r", "recipe.toml", "--dry-run"}).exit_code ==
      0);
  write(bench.dir / "miss.toml",
        "format = 1\nname = \"m\"\n[[edit]]\nkind = \"property\"\n"
        "file = \"none\"\nset = { \"a\" = \"b\" }\n");
  const Json error = program_json(
      bench.dir, {"patch", "init_boot.img", "-r", "miss.toml", "-o", "out.img"}, 1)["error"];
  CHECK(error["code"] == "no-match");
  std::filesystem::remove(bench.dir / "miss.toml");
  CHECK(bench.dir.names() == before);
  CHECK(program(bench.dir, {"patch", "init_boot.img", "-r", "recipe.toml"}).exit_code == 2);
}

TEST_CASE("prepare: target, kit, plan; two runs give the same bytes") {
  const CommandBench bench;
  const Json document =
      program_json(bench.dir, {"prepare", "ota.zip", "-r", "recipe.toml", "-o", "kit"});
  CHECK(document["result"]["target"] == "init_boot");
  CHECK(document["result"]["kit"] == "kit");
  CHECK(document["result"]["reason"].get<std::string>().find("has an init_boot") !=
        std::string::npos);
  CHECK(read(bench.dir / "kit/stock/init_boot.img") == bench.init_boot);
  CHECK(read(bench.dir / "kit/flash/vbmeta.img")[123] == 2);
  const Json kit = Json::parse(read(bench.dir / "kit/kit.json"));
  for (const Json& image : kit["images"])
    for (const char* side : {"flash", "stock"}) {
      const std::string bytes = read(bench.dir / "kit" / image[side]["file"].get<std::string>());
      CHECK(image[side]["sha256"] == hex_of(sha256(bytes)));
      CHECK(image[side]["size"] == bytes.size());
    }
  CHECK(kit["plan"]["sha256"] == hex_of(sha256(read(bench.dir / "kit/plan.toml"))));
  CHECK(program(bench.dir, {"prepare", "ota.zip", "-r", "recipe.toml", "-o", "kit2", "--jobs", "1"})
            .exit_code == 0);
  CHECK(shell("diff -r kit kit2", bench.dir.path().string()).exit_code == 0);
  CHECK(program(bench.dir, {"prepare", "ota.zip", "-r", "recipe.toml", "-o", "kit"}).exit_code ==
        5);
  CHECK(program(bench.dir, {"prepare", "ota.zip", "-r", "recipe.toml", "-o", "kit", "--force"})
            .exit_code == 0);
}

TEST_CASE("prepare: a phone without init_boot: boot of version 2, several recipes in one call") {
  const CommandBench bench;
  BootBytes v2{
      .version = 2, .page = 2048, .kernel = noise(30000), .ramdisk = gzip(first_ramdisk())};
  v2.dtb = noise(2000);
  const std::string boot = padded(v2.done() + std::string(60000, '\0'), 4096);
  PayloadBytes payload;
  payload.partitions = {partition_of("boot", boot, 8),
                        partition_of("vbmeta", bench.vbmeta_image, 0)};
  write(bench.dir / "payload.bin", payload.done());
  const Json result = program_json(
      bench.dir, {"prepare", "payload.bin", "-r", "@start-program", "@fstab-open",
                  "@verification-off", "--set", "program=hello", "-o", "kit"})["result"];
  CHECK(result["target"] == "boot");
  CHECK(result["reason"].get<std::string>().find("there is no init_boot") != std::string::npos);
  CHECK(result["images"][0]["edits"].size() == 3);
  CHECK(read(bench.dir / "kit/flash/vbmeta.img")[123] == 3);
  CHECK(read(bench.dir / "kit/flash/boot.img").size() == boot.size());
  const Json image =
      program_json(bench.dir, {"inspect", "kit/flash/boot.img"})["result"]["items"][0]["image"];
  CHECK(image["id_matches"] == true);
  CHECK(image["origin"] == "journaled");
  CHECK(image["parts"][1]["compression"] == "gzip");
  // A partition that a recipe names and the firmware has not.
  write(bench.dir / "named.toml",
        "format = 1\nname = \"n\"\n[[edit]]\nkind = \"put\"\npath = \"x\"\n"
        "from = \"hello\"\npartition = \"recovery\"\n");
  CHECK(program_json(bench.dir, {"prepare", "payload.bin", "-r", "named.toml", "-o", "kit3"},
                     1)["error"]["code"] == "no-match");
}

TEST_CASE("prepare: what cannot be done leaves nothing behind") {
  CommandBench bench;
  const auto before = bench.dir.names();
  // The add-on is too large for the partition.
  write(bench.dir / "hello", noise(200000));
  const Json error =
      program_json(bench.dir, {"prepare", "ota.zip", "-r", "recipe.toml", "-o", "kit"}, 1)["error"];
  CHECK(error["code"] == "does-not-fit");
  CHECK(bench.dir.names() == before);
  // No image starts the system.
  PayloadBytes payload = bench.payload;
  payload.partitions.erase(payload.partitions.begin() + 1);
  write(bench.dir / "boot-only.bin", payload.done());
  CHECK(program_json(bench.dir, {"prepare", "boot-only.bin", "-r", "recipe.toml", "-o", "kit"},
                     1)["error"]["code"] == "no-target");
  // An incremental package.
  bench.payload.partitions[0].operations[0].type = 4;
  write(bench.dir / "incremental.zip", bench.ota());
  CHECK(program(bench.dir, {"prepare", "incremental.zip", "-r", "recipe.toml", "-o", "kit"})
            .exit_code == 4);
  CHECK_FALSE(std::filesystem::exists(bench.dir / "kit"));
}

TEST_CASE("prepare: a folder that is no kit is not replaced, even with --force") {
  const CommandBench bench;
  write(bench.dir / "photos/a.jpg", "precious");
  CHECK(program(bench.dir, {"prepare", "ota.zip", "-r", "recipe.toml", "-o", "photos", "--force"})
            .exit_code == 5);
  CHECK(read(bench.dir / "photos/a.jpg") == "precious");
}

TEST_CASE("recipes: listed and shown; one that takes a program") {
  const CommandBench bench;
  const Json list = program_json(bench.dir, {"recipes"})["result"]["recipes"];
  CHECK(list.size() == 7);
  CHECK(program(bench.dir, {"recipes", "@verification-off"}).out.find("vbmeta-flags") !=
        std::string::npos);
  CHECK(program(bench.dir, {"recipes", "@none"}).exit_code == 5);
  CHECK(program(bench.dir, {"patch", "init_boot.img", "-r", "@start-program", "--set",
                            "program=hello", "-o", "p.img"})
            .exit_code == 0);
  CHECK(program(bench.dir, {"patch", "init_boot.img", "-r", "@start-program", "-o", "q.img"})
            .exit_code == 2);
  CHECK(program(bench.dir, {"patch", "vbmeta.img", "-r", "@verification-off", "-o", "v.img"})
            .exit_code == 0);
  CHECK(read(bench.dir / "v.img")[123] == 3);
}

TEST_CASE("program: wrong calls are exit 2, with JSON when asked") {
  const CommandBench bench;
  CHECK(program(bench.dir, {"explode"}).exit_code == 2);
  CHECK(program(bench.dir, {"extract", "ota.zip"}).exit_code == 2);
  CHECK(program(bench.dir, {"inspect", "ota.zip", "--jobs", "0"}).exit_code == 2);
  CHECK(program(bench.dir, {"extract", "ota.zip", "boot", "--all", "-o", "x"}).exit_code == 2);
  CHECK(program_json(bench.dir, {"explode"}, 2)["error"]["code"] == "usage");
  CHECK(program(bench.dir, {"--help"}).exit_code == 0);
  CHECK(program(bench.dir, {"--version"}).out.find("wexlo ") == 0);
}

TEST_CASE("program: what a call leaves out is named in one voice") {
  const CommandBench bench;
  for (const auto& [call, said] : std::vector<std::pair<std::vector<std::string>, std::string>>{
           {{"explode"}, "no command is called \"explode\""},
           {{"--limit", "5G", "explode"}, "no command is called \"explode\""},
           {{"patch"}, "patch needs IMAGE"},
           {{"patch", "a.img"}, "patch needs -r, --recipe RECIPE"},
           {{"patch", "a.img", "-r", "b"}, "patch needs a name for the output"},
           {{"extract", "ota.zip"}, "extract needs a folder for the images"},
           {{"prepare", "ota.zip", "-o", "kit"}, "prepare needs a recipe"},
           {{"keys", "new"}, "keys new needs FILE"}}) {
    CAPTURE(said);
    CHECK(program(bench.dir, call).err.starts_with("wexlo: " + said + ". "));
  }
  CHECK(program(bench.dir, {"patch"}).err.contains("wexlo help patch"));
}

TEST_CASE("program: errors say what, where, both sides, and what to do") {
  const CommandBench bench;
  std::string cut = bench.init_boot.substr(0, 4096 + 100);
  write(bench.dir / "cut.img", cut);
  const Ran ran = program(bench.dir, {"inspect", "cut.img"});
  CHECK(ran.exit_code == 3);
  CHECK(ran.out.empty());
  CHECK(ran.err.find("wexlo: cut.img: at 0x1000: ramdisk runs past the end of the file") == 0);
  CHECK(ran.err.find("expected ") != std::string::npos);
  CHECK(ran.err.find("found 100 bytes") != std::string::npos);
}

TEST_CASE("program: settings come from the file, then the environment, then the options") {
  const CommandBench bench;
  write(bench.dir / "good.toml", "jobs = 2\n");
  write(bench.dir / "bad.toml", "jobs = 0\n");
  CHECK(program(bench.dir, {"inspect", "ota.zip", "--config", "good.toml"}).exit_code == 0);
  CHECK(program(bench.dir, {"inspect", "ota.zip", "--config", "bad.toml"}).exit_code == 3);
  CHECK(program(bench.dir, {"inspect", "ota.zip", "--config", "none.toml"}).exit_code == 5);
  const std::vector<std::string> command{built_program(), "inspect", "ota.zip"};
  CHECK(run(command, bench.dir.path().string(), {"WEXLO_JOBS=many"}).exit_code == 2);
  CHECK(run(command, bench.dir.path().string(), {"WEXLO_JOBS=1"}).exit_code == 0);
}

TEST_CASE("program: colours only when asked, never with NO_COLOR") {
  const CommandBench bench;
  CHECK(program(bench.dir, {"inspect", "ota.zip"}).out.find('\033') == std::string::npos);
  CHECK(program(bench.dir, {"inspect", "ota.zip", "--color", "always"}).out.find('\033') !=
        std::string::npos);
}
