/// Images and packages of one's own beside what is patched: what they are checked for, the room
/// that is made for them, how they reach the phone.

#include "program/bench.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("prepare --with: an image of one's own beside, checked for what it is") {
  const Bench bench;
  const std::string own = BootBytes{.kernel = arm64_kernel("5.10.1-own")}.done();
  write(bench.dir / "own.img", own);
  REQUIRE(bench.prepare({"-r", "r.toml", "--with", "boot=own.img"})["ok"] == true);
  CHECK(read(bench.dir / "kit/flash/boot.img") == own);
  CHECK(read(bench.dir / "kit/stock/boot.img") == bench.images.at("boot"));
  CHECK(fs::exists(bench.dir / "kit/figures/changes-boot.svg"));
  // Packed ones are unpacked.
  write(bench.dir / "own.img.gz", gzip(own));
  REQUIRE(bench.prepare({"-r", "r.toml", "--with", "boot=own.img.gz", "--force"})["ok"] == true);
  CHECK(read(bench.dir / "kit/flash/boot.img") == own);
  // A recipe acts on the given one.
  const std::string ramdisk =
      BootBytes{.ramdisk = lz4_legacy(
                    CpioBytes{}.entry("init", elf("arm64", "own"), 0100750, 0, 1).done())}
          .done();
  write(bench.dir / "own-init.img", ramdisk);
  const Json patched =
      bench.prepare({"-r", "r.toml", "--with", "init_boot=own-init.img", "--force"});
  CHECK(program_json(bench.dir, {"restore", "kit/flash/init_boot.img", "-o", "again.img"})["ok"] ==
        true);
  CHECK(read(bench.dir / "again.img") == ramdisk);
}

TEST_CASE("prepare: a generic system fits after the planned clean-up, and the way back undoes it") {
  const Bench bench;
  const std::string system =
      file_system(4 * kMiB, "ro.product.cpu.abilist=arm64-v8a\nro.build.ab_update=true\n");
  write(bench.dir / "gsi.img", system);
  const std::string super =
      "[super]\nsize = 6291456\n"  // 1 MiB of it are tables
      "[[logical]]\nname = \"system_a\"\nsize = 2097152\n[[logical]]\nname = \"product_a\"\nsize = "
      "1048576\n[[logical]]\nname = \"vendor_a\"\nsize = 1048576\n[[logical]]\nname = "
      "\"system_a-cow\"\nsize = 1048576\n";
  write(bench.dir / "s.toml", Bench::sheet(super));
  const std::vector<std::string> words{"-r",     "r.toml",         "--sheet", "s.toml",
                                       "--with", "system=gsi.img", "--force"};
  const auto with = [&](std::vector<std::string> more) {
    more.insert(more.begin(), words.begin(), words.end());
    return more;
  };
  CHECK(bench.prepare(words, 1)["error"]["found"] == "wipe-needed");
  // Mounting it would be verified against the maker's: the start would stop there.
  CHECK(bench.prepare(with({"--wipe"}), 1)["error"]["found"] == "mount-not-covered-system");
  const Json done = bench.prepare(with({"--wipe", "-r", "flags.toml"}));
  CHECK(says(done, "warning:room-made"));
  const Json report = bench.plan();
  CHECK(acts(report["plan"])
            .find("drop:system_a-cow drop:product_a resize:system_a write:system mode "
                  "write:init_boot write:vbmeta wipe restart") != std::string::npos);
  CHECK(
      acts(report["back"]).find("resize:system_a create:product_a write:product_a write:system") !=
      std::string::npos);
  CHECK(read(bench.dir / "kit/flash/system.img") == system);
  CHECK(read(bench.dir / "kit/stock/system.img") == bench.images.at("system"));
  CHECK(read(bench.dir / "kit/stock/product_a.img") == bench.images.at("product"));
  CHECK(fs::exists(bench.dir / "kit/figures/super.svg"));
  CHECK(program_json(bench.dir, {"draw", "kit", "--figure", "super", "-o", "super.svg"})["ok"] ==
        true);
  CHECK(program_json(bench.dir, {"check", "kit"})["ok"] == true);
  // Without the leftover and product there is still no room for more.
  write(bench.dir / "gsi.img", file_system(5 * kMiB, "x"));
  CHECK(bench.prepare(with({"--wipe", "-r", "flags.toml"}), 1)["error"]["found"] ==
        "no-room-system");
  // What says that it is for one slot is refused on a phone with two.
  write(bench.dir / "gsi.img", file_system(kMiB, "ro.build.ab_update=false\n"));
  CHECK(bench.prepare(with({"--wipe", "-r", "flags.toml"}), 1)["error"]["found"] ==
        "given-slots-system");
}

TEST_CASE(
    "prepare: images over the phone's download limit come in sparse pieces that give them again") {
  const Bench bench;
  const std::string system = noise(2 * kMiB, 3);
  write(bench.dir / "gsi.img", system);
  write(bench.dir / "s.toml",
        Bench::sheet("[super]\nsize = 16777216\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n")
            .replace(Bench::sheet().find("slots ="), 0, "download_limit = 700000\n"));
  REQUIRE(bench.prepare({"-r", "r.toml", "-r", "flags.toml", "--sheet", "s.toml", "--with",
                         "system=gsi.img", "--wipe"})["ok"] == true);
  std::vector<std::string> pieces;
  const Json steps = bench.plan()["plan"];
  for (const Json& step : steps)
    if (step["do"] == "write" && step["partition"] == "system") pieces.push_back(step["uses"]);
  REQUIRE(pieces.size() == 4);
  fs::create_directory(bench.dir / "set");
  for (const std::string& piece : pieces) {
    CHECK(fs::file_size(bench.dir / ("kit/" + piece)) <= 700000);
    fs::copy(bench.dir / ("kit/" + piece),
             bench.dir / ("set/" + fs::path(piece).filename().string()));
  }
  REQUIRE(
      shell("cd set && for f in *; do mv $f system.img_chunk.${f#system.piece-}; done && for f in "
            "*.img; do mv $f ${f%.img}; done",
            bench.dir.path().string())
          .exit_code == 0);
  REQUIRE(program(bench.dir, {"extract", "set", "system", "-o", "out"}).exit_code == 0);
  CHECK(read(bench.dir / "out/system.img") == system);
  // What is just as large as a download may be goes in one piece.
  for (const auto& [limit, whole] : {std::pair{2 * kMiB, true}, {2 * kMiB - 1, false}}) {
    write(
        bench.dir / "s.toml",
        Bench::sheet("[super]\nsize = 16777216\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n")
            .replace(Bench::sheet().find("slots ="), 0,
                     "download_limit = " + std::to_string(limit) + "\n"));
    REQUIRE(bench.prepare({"-r", "r.toml", "-r", "flags.toml", "--sheet", "s.toml", "--with",
                           "system=gsi.img", "--wipe", "--force"})["ok"] == true);
    CHECK(fs::exists(bench.dir / "kit/flash/system.img") == whole);
    if (whole) CHECK(read(bench.dir / "kit/flash/system.img") == system);
  }
}

TEST_CASE("prepare --install: a system package goes to the other slot, and later steps with it") {
  const Bench bench;
  write(bench.dir / "other.zip", bench.ota("tidestreet/other/other:16/T/1:user/k"));
  // Its boot images are not the ones that were patched.
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml", "--install", "other.zip"},
                      1)["error"]["found"] == "given-build-install");
  const Json done =
      bench.prepare({"-r", "r.toml", "--sheet", "sheet.toml", "--install", "ota.zip"});
  CHECK(read(bench.dir / "kit/install/ota.zip") == read(bench.dir / "ota.zip"));
  const Json steps = bench.plan()["plan"];
  for (const Json& step : steps)
    if (step["do"] == "write") CHECK(step["slot"] == "other");
  CHECK(acts(bench.plan()["plan"]).find("install mode write:init_boot slot restart") !=
        std::string::npos);
  CHECK(bench.prepare({"-r", "r.toml", "--install", "ota.zip", "--install", "ota.zip"}, 2,
                      "k")["error"]["code"] == "usage");
}

TEST_CASE("prepare --install: a recovery of one's own is written before it has to install") {
  const Bench bench;
  const auto image = [](const std::string& release) {
    return BootBytes{.version = 1,
                     .page = 2048,
                     .kernel = arm64_kernel(release),
                     .ramdisk = gzip(init_ramdisk())}
        .done();
  };
  write(bench.dir / "set/boot.img", image("4.14.1"));
  write(bench.dir / "set/recovery.img", image("4.14.1"));
  write(bench.dir / "own.img", image("4.14.2"));
  write(bench.dir / "system.zip",
        zip({{"system.transfer.list", "1\n1\nnew 2,0,1\n"}, {"system.new.dat", noise(4096)}}));
  REQUIRE(program_json(bench.dir, {"prepare", "set", "-r", "r.toml", "--with", "recovery=own.img",
                                   "--install", "system.zip", "-o", "kit"})["ok"] == true);
  CHECK(acts(bench.plan()["plan"]).contains("write:recovery mode install mode write:boot "));
}

TEST_CASE("prepare: a super of unknown size is not told to have no room") {
  const Bench bench;
  write(bench.dir / "system.img", file_system(2 * kMiB, "ro.z=1\n"));
  write(bench.dir / "sheet.toml",
        Bench::sheet("[[logical]]\nname = \"system_a\"\nsize = 1048576\n"));
  const Ran ran =
      program(bench.dir, {"prepare", "ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--with",
                          "system=system.img", "--wipe", "-o", "k", "--json"});
  CAPTURE(ran.out);
  const Json said = Json::parse(ran.out);
  CHECK_FALSE(codes(said).contains("no-room"));
  CHECK(codes(said).contains("warning:room-unknown-system"));
}

TEST_CASE("prepare --with system: a system that is mounted at / is verified there, too") {
  for (const std::string mount : {"/", "/system", "/system_root"}) {
    CAPTURE(mount);
    Bench bench;
    bench.images["vendor_boot"] = with_footer(
        VendorBootBytes{
            .version = 4,
            .ramdisk =
                lz4_legacy(CpioBytes{}
                               .file("first_stage_ramdisk/fstab.gnomon",
                                     "system " + mount +
                                         " ext4 ro wait,slotselect,avb,logical,first_stage_mount\n")
                               .done()),
            .dtb = device_tree("Tarn 3", "korvale,gnomon")}
            .done(),
        "vendor_boot", 1u << 18);
    write(bench.dir / "ota.zip", bench.ota());
    write(bench.dir / "gsi.img", file_system(2 * kMiB, "ro.product.cpu.abilist=arm64-v8a\n"));
    write(bench.dir / "s.toml",
          Bench::sheet(
              "[super]\nsize = 8388608\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n"));
    const Json done =
        bench.prepare({"-r", "r.toml", "--sheet", "s.toml", "--with", "system=gsi.img", "--wipe",
                       "--dry-run", "--accept", "mount-not-covered-system"});
    CHECK(says(done, "warning:mount-not-covered-system") == (mount != "/system_root"));
  }
}

TEST_CASE("prepare --with: a logical image of odd size gets a partition of whole blocks") {
  const Bench bench;
  write(bench.dir / "gsi.img",
        file_system(3 * kMiB + 1, "ro.product.cpu.abilist=arm64-v8a\nro.build.ab_update=true\n"));
  write(
      bench.dir / "s.toml",
      Bench::sheet("[super]\nsize = 12582912\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n"));
  REQUIRE(bench.prepare({"-r", "r.toml", "-r", "flags.toml", "--sheet", "s.toml", "--with",
                         "system=gsi.img", "--wipe"})["ok"] == true);
  const std::string plan = read(bench.dir / "kit/plan.toml");
  const std::size_t resize = plan.find("do = \"resize\"");
  REQUIRE(resize != plan.npos);
  CHECK(plan.find("do = \"resize\"", resize + 1) > plan.find("[[back]]"));
  CHECK(plan.substr(resize, plan.find("[[", resize) - resize).contains("size = 3149824\n"));
}
