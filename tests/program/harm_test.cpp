/// What must never harm: crashes, lost content, wrong plans. Each case is named for what went wrong
/// once.

#include <filesystem>
#include <functional>

#include "program/shell.hpp"
#include "support/rounds.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE(
    "prepare: an image given along with a recipe that acts elsewhere ends with a whole reply") {
  const Bench bench;
  write(bench.dir / "image.img", bench.images.at("boot"));
  write(bench.dir / "sheet.toml", Bench::sheet("recovery_a = 262144\ndtbo_a = 262144\n"));
  for (const std::string partition : {"recovery", "boot", "dtbo", "vbmeta"})
    for (const std::string more : {"--json", "--dry-run", "--verbose", "--quiet"})
      for (const bool sheet : {false, true}) {
        std::vector<std::string> words{
            "prepare", "ota.zip", "-r",      "flags.toml", "--with", partition + "=image.img",
            "-o",      "kit",     "--force", more};
        if (sheet) words.insert(words.end(), {"--sheet", "sheet.toml"});
        check_sane(bench.dir, words);
      }
}

TEST_CASE("kit.json whose values are of other types: an error with its place, no abort") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml"})["ok"] == true);
  const std::string whole = read(bench.dir / "kit/kit.json");
  const Json good = Json::parse(whole);
  std::vector<Json::json_pointer> places;
  const std::function<void(const Json&, const Json::json_pointer&)> walk =
      [&](const Json& value, const Json::json_pointer& at) {
        if (!at.empty()) places.push_back(at);
        if (value.is_object())
          for (const auto& [key, one] : value.items())
            walk(one, at / key);
        if (value.is_array())
          for (std::size_t i = 0; i < std::min<std::size_t>(value.size(), 1); ++i)
            walk(value[i], at / i);
      };
  walk(good, Json::json_pointer());
  REQUIRE(places.size() > 40);
  const std::vector<Json> odd{Json(7), Json::array(), Json("x"), Json(-1), Json(true)};
  std::size_t number = 0;
  for (const auto& place : places) {
    Json changed = good;
    changed[place] = odd[number++ % odd.size()];
    if (changed == good) continue;
    write(bench.dir / "kit/kit.json", changed.dump());
    CAPTURE(place.to_string());
    const Ran checked = program(bench.dir, {"check", "kit", "--json"});
    CHECK((checked.exit_code == 1 || checked.exit_code == 3 || checked.exit_code == 4));
    CHECK(Json::accept(checked.out));
    if (number % 8 != 0) continue;
    check_sane(bench.dir, {"prepare", "ota.zip", "--like", "kit", "--dry-run", "--json"});
    check_sane(bench.dir, {"draw", "kit", "--figure", "super", "-o", "x.svg", "--json"});
    check_sane(bench.dir, {"restore", "kit/flash/init_boot.img", "--stock",
                           "kit/stock/init_boot.img", "--dry-run", "--json"});
  }
  Json changed = good;
  changed["images"][0]["flash"]["sha256"] = 5;
  write(bench.dir / "kit/kit.json", changed.dump());
  const Json said = program_json(bench.dir, {"check", "kit"}, 3);
  CHECK(said["error"]["message"].get<std::string>().find("images[0].flash.sha256") !=
        std::string::npos);
}

TEST_CASE("extract.json of another form is an answer, not an abort") {
  const Bench bench;
  fs::create_directory(bench.dir / "out");
  for (const char* text :
       {"{\"format\": \"1\"}", "{}", "[]", "{\"format\": 1, \"partitions\": 3}", "x", ""}) {
    CAPTURE(text);
    write(bench.dir / "out/extract.json", text);
    const Ran ran = program(bench.dir, {"extract", "ota.zip", "boot", "-o", "out"});
    CHECK(ran.exit_code == (*text == '\0' ? 0 : 5));
  }
}

TEST_CASE("repack: a ramdisk of two joined lz4 streams keeps all of its entries, and the new one") {
  const TempDir dir;
  // Two archives of nine MiB: each stream has a short block in the middle of the ramdisk.
  const auto half = [](const std::string& name, std::uint32_t seed) {
    return CpioBytes{}
        .file(name, noise(4u << 20, seed) + std::string(5u << 20, 'x'))
        .entry("init-" + name, "x", 0100755, 0, 1)
        .done();
  };
  const std::string ramdisk = lz4_legacy(half("one", 1)) + lz4_legacy(half("two", 2));
  write(dir / "boot.img", BootBytes{.version = 2,
                                    .kernel = arm64_kernel("5.10.1"),
                                    .ramdisk = ramdisk,
                                    .dtb = device_tree("x", "y")}
                              .done());
  REQUIRE(program(dir, {"unpack", "boot.img", "-o", "parts"}).exit_code == 0);
  write(dir / "parts/tree/new-file", "hello");
  REQUIRE(program(dir, {"repack", "parts", "-o", "new.img"}).exit_code == 0);
  REQUIRE(program(dir, {"unpack", "new.img", "-o", "again"}).exit_code == 0);
  for (const char* name : {"one", "two", "init-one", "init-two"}) {
    CAPTURE(name);
    CHECK(read(dir / (std::string("again/tree/") + name)) ==
          read(dir / (std::string("parts/tree/") + name)));
  }
  CHECK(read(dir / "again/tree/new-file") == "hello");
}

TEST_CASE("a super group whose name is no UTF-8 ends in whole documents, not in an abort") {
  const Bench bench;
  SuperBytes super;
  super.partitions = {{"system_a", {{16, 600}}}};
  super.group = "kor\xff\xfe\x80vale";
  for (const char* name : {"boot", "init_boot", "vendor_boot", "vbmeta"})
    write(bench.dir / (std::string("fw/") + name + ".img"), bench.images.at(name));
  write(bench.dir / "fw/super.img", super.done());
  check_sane(bench.dir, {"inspect", "fw/super.img", "--json"});
  check_sane(bench.dir, {"draw", "fw/super.img", "-o", "x.svg", "--json"});
  check_sane(bench.dir, {"extract", "fw", "--all", "-o", "out", "--json"});
  const Json made = program_json(bench.dir, {"prepare", "fw", "-r", "r.toml", "-o", "kit"});
  CHECK(made["ok"] == true);
  CHECK(Json::accept(read(bench.dir / "kit/kit.json")));
  CHECK(program(bench.dir, {"check", "kit"}).exit_code == 0);
  check_sane(bench.dir, {"draw", "kit", "--figure", "super", "-o", "y.svg", "--json"});
  check_sane(bench.dir, {"prepare", "fw", "--like", "kit", "--dry-run", "--json"});
}

TEST_CASE("what does not read of a package is an error or a finding, never passed over") {
  const Bench bench;
  const auto with_damaged = [&](const std::string& damaged) {
    PayloadBytes payload;
    for (const char* name : {"boot", "init_boot", "vendor_boot", "vbmeta"}) {
      payload.partitions.push_back(partition_of(name, bench.images.at(name), 1, 64));
      if (name == damaged) payload.partitions.back().operations[0].sha256 = std::string(32, 'x');
    }
    return zip({{"META-INF/com/android/metadata",
                 std::string("post-build=") + kBuild +
                     "\npre-device=gnomon\npost-security-patch-level=2026-09-05\n"},
                {"payload.bin", payload.done()}});
  };
  write(bench.dir / "chain.zip", with_damaged("vbmeta"));
  write(bench.dir / "init.zip", with_damaged("init_boot"));
  const Json chain = program_json(bench.dir, {"inspect", "chain.zip"});
  CHECK(says(chain, "warning:unreadable-chain"));
  for (const char* package : {"chain.zip", "init.zip"})
    for (const char* more : {"--dry-run", "--verbose"}) {
      CAPTURE(package);
      const Ran ran = program(bench.dir, {"prepare", package, "-r", "r.toml", "--sheet",
                                          "sheet.toml", "-o", "kit", "--json", more});
      CAPTURE(ran.out);
      // Not boot instead of an init_boot that is damaged.
      CHECK(ran.exit_code == 3);
      CHECK_FALSE(fs::exists(bench.dir / "kit"));
    }
  // In a folder, too.
  write(bench.dir / "fw/init_boot.img", bench.images.at("init_boot").substr(0, 4200));
  write(bench.dir / "fw/boot.img", bench.images.at("boot"));
  CHECK(program(bench.dir, {"prepare", "fw", "-r", "r.toml", "-o", "kit"}).exit_code == 3);
}
