/// Files that are not what they are taken for: found by digest, build and content.

#include "program/bench.hpp"
#include "support/signed_set.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

TEST_CASE("prepare --with: the wrong image stops, whatever it is called") {
  const Bench bench;
  struct Case {
    const char* what;
    std::string file, bytes, code;
    bool stops;
  };
  const std::string good = BootBytes{.kernel = arm64_kernel("5.10.1")}.done();
  const std::vector<Case> cases{
      {"for another processor", "own.img",
       BootBytes{.kernel = noise(99),
                 .ramdisk = lz4_legacy(
                     CpioBytes{}.entry("init", elf("x86_64", "x"), 0100750, 0, 1).done())}
           .done(),
       "given-architecture-boot", true},
      {"of an older header", "own.img",
       BootBytes{.version = 2, .kernel = noise(99), .dtb = device_tree("a", "b")}.done(),
       "given-header-boot", true},
      {"of another build", "own.img",
       image_of_build(good, "boot", "korvale/gnomon/gnomon:15/A/1:user/k", "2026-09-05", 1u << 17),
       "given-build-boot", true},
      {"a placeholder", "own.img", "nothing", "given-placeholder-boot", true},
      {"named as a program", "own.exe", good, "name-boot", true},
      {"with two endings", "boot.img.txt", good, "doubled-extension", false},
  };
  for (const Case& one : cases) {
    CAPTURE(one.what);
    write(bench.dir / one.file, one.bytes);
    const Json got = bench.prepare(
        {"-r", "r.toml", "--sheet", "sheet.toml", "--with", "boot=" + one.file, "--force"},
        one.stops ? 1 : 0);
    if (!one.stops) {
      CHECK(says(got, "warning:" + one.code));
      continue;
    }
    CHECK(got["error"]["found"] == one.code);
    CHECK_FALSE(fs::exists(bench.dir / "kit"));
  }
  CHECK(bench.prepare({"-r", "r.toml", "--with", "boot"}, 2, "k")["error"]["code"] == "usage");
  CHECK(bench.prepare({"-r", "r.toml", "--with", "../x=own.img"}, 3, "k")["error"]["code"] ==
        "unsafe-path");
}

TEST_CASE("prepare: a folder of images that do not belong together, or are not what they were") {
  const Bench bench;
  const std::string old = "korvale/gnomon/gnomon:16/KV3A.0/20260805:user/release-keys";
  const auto put = [&](const char* build, const char* level) {
    write(bench.dir / "fw/init_boot.img",
          image_of_build(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), "init_boot",
                         kBuild, "2026-09-05", 1u << 18));
    write(bench.dir / "fw/boot.img",
          image_of_build(BootBytes{.kernel = arm64_kernel("5.10.1")}.done(), "boot", build, level,
                         1u << 18));
  };
  const auto prepare = [&](int wanted, std::vector<std::string> more = {}) {
    std::vector<std::string> words{"prepare", "fw", "-r", "r.toml", "-o", "kit", "--force"};
    words.insert(words.end(), more.begin(), more.end());
    return program_json(bench.dir, words, wanted);
  };
  put(kBuild, "2026-09-05");
  CHECK(prepare(0)["ok"] == true);
  put(old.c_str(), "2026-08-05");
  CHECK(prepare(1)["error"]["found"] == "mixed-boot");
  CHECK(prepare(0, {"--accept", "mixed-boot"})["ok"] == true);
  // As new as its sibling, or from another tool: they may well belong together.
  put(old.c_str(), "2026-09-05");
  CHECK(codes(prepare(0)).find("warning:mixed-") != std::string::npos);
  put("common/kernel/arm64:16/X/1:user/release-keys", "2026-01-05");
  CHECK(codes(prepare(0)).find(":mixed-") == std::string::npos);
  put(kBuild, "2026-09-05");
  write(bench.dir / "fw/boot.img", "soon");
  CHECK(prepare(1)["error"]["found"] == "placeholder-boot");
  // A device tree may be as small as that.
  put(kBuild, "2026-09-05");
  write(bench.dir / "fw/dtb.img", device_tree("Tarn 3", "korvale,gnomon"));
  CHECK(prepare(0)["ok"] == true);
}

TEST_CASE("prepare: an image that the firmware's own vbmeta does not cover is no stock image") {
  const Bench bench;
  const std::string stock = padded(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), 4096);
  const std::string other =
      padded(BootBytes{.ramdisk = lz4_legacy(init_ramdisk()), .cmdline = "quiet"}.done(), 4096);
  REQUIRE(stock.size() == other.size());
  const auto prepare = [&](const std::string& image, const std::string& partition, int wanted,
                           std::vector<std::string> more = {}, bool is_signed = true) {
    wexlo::verified::Draft draft = wexlo::verified::new_draft();
    const std::string claim = hash_descriptor(partition, stock, "salt");
    draft.descriptors.push_back(wexlo::to_bytes(claim));
    const auto bytes = wexlo::verified::write_struct(
        draft, is_signed ? &signer(KeyOf::Root) : nullptr, wexlo::DigestKind::Sha256);
    REQUIRE(bytes);
    write(bench.dir / "fw/init_boot.img", image);
    write(bench.dir / "fw/vbmeta.img", padded(std::string(wexlo::as_text(*bytes)), 4096));
    std::vector<std::string> words{"prepare", "fw", "-r", "r.toml", "-o", "kit", "--force"};
    words.insert(words.end(), more.begin(), more.end());
    return program_json(bench.dir, words, wanted);
  };
  CHECK_FALSE(says(prepare(stock, "init_boot", 0), "warning:not-covered-init_boot"));
  CHECK(prepare(other, "init_boot", 1)["error"]["found"] == "not-covered-init_boot");
  CHECK(says(prepare(other, "init_boot", 0, {"--accept", "not-covered-init_boot"}),
             "warning:not-covered-init_boot"));
  CHECK(says(prepare(other, "init_boot", 0, {"--onto-foreign"}), "warning:not-covered-init_boot"));
  CHECK(says(prepare(other, "init_boot", 0, {}, false), "warning:not-covered-init_boot"));
  // What it says of a partition that the kit leaves alone is not looked at.
  CHECK(prepare(other, "dtbo", 0)["ok"] == true);
}

TEST_CASE("prepare: an image that was changed since it was taken out of its package is found") {
  const Bench bench;
  REQUIRE(program(bench.dir, {"extract", "ota.zip", "-o", "fw"}).exit_code == 0);
  const auto prepare = [&](int wanted) {
    return program_json(bench.dir, {"prepare", "fw", "-r", "r.toml", "-o", "kit", "--force"},
                        wanted);
  };
  CHECK(prepare(0)["ok"] == true);
  std::string boot = bench.images.at("boot");
  boot[5000] ^= 1;
  write(bench.dir / "fw/boot.img", boot);
  CHECK(prepare(1)["error"]["found"] == "changed-boot");
}

TEST_CASE("prepare: a patched image is no stock firmware") {
  const Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  for (const auto& [name, bytes] : bench.images)
    write(bench.dir / ("fw/" + name + ".img"), bytes);
  write(bench.dir / "fw/init_boot.img", read(bench.dir / "kit/flash/init_boot.img"));
  const Json refused = program_json(bench.dir, {"prepare", "fw", "--stock", "-o", "kit2"}, 1);
  CHECK(refused["error"]["found"] == "patched-init_boot");
  write(
      bench.dir / "more.toml",
      "format = 1\nname = \"more\"\n[[edit]]\nkind = \"put\"\npath = \"more\"\nfrom = \"hello\"\n");
  CHECK(program_json(bench.dir, {"prepare", "fw", "-r", "more.toml", "-o", "kit2"},
                     1)["error"]["found"] == "patched-init_boot");
}

TEST_CASE("prepare --like: the same build with other bytes is another firmware") {
  Bench bench;
  REQUIRE(bench.prepare({"-r", "r.toml"})["ok"] == true);
  CHECK(bench.prepare({"--like", "kit"}, 0, "kit2")["ok"] == true);
  bench.images["init_boot"] =
      with_footer(BootBytes{.ramdisk = lz4_legacy(init_ramdisk()), .cmdline = "other"}.done(),
                  "init_boot", 1u << 18);
  write(bench.dir / "ota.zip", bench.ota());
  CHECK(bench.prepare({"--like", "kit"}, 1, "kit3")["error"]["found"] == "another-init_boot");
}

TEST_CASE("prepare: a kit, a partition or an image of another phone is a problem") {
  const Bench bench;
  const auto codes_of = [&](std::vector<std::string> words) {
    words.insert(words.begin(), "prepare");
    words.insert(words.end(), {"-o", "x", "--dry-run", "--json"});
    const Ran ran = program(bench.dir, words);
    CAPTURE(ran.out);
    CHECK(ran.exit_code == 1);
    const Json said = Json::parse(ran.out);
    return said["error"]["found"].get<std::string>() + " " + codes(said);
  };
  // Another phone's kit.
  const std::string other = "korvale/vernier/vernier:16/KV3A.1/20260905:user/release-keys";
  PayloadBytes payload;
  for (const char* name : {"boot", "init_boot", "vendor_boot", "vbmeta"})
    payload.partitions.push_back(partition_of(name, bench.images.at(name), 1, 64));
  write(
      bench.dir / "other.zip",
      zip({{"META-INF/com/android/metadata",
            "post-build=" + other + "\npre-device=vernier\npost-security-patch-level=2026-09-05\n"},
           {"payload.bin", payload.done()}}));
  REQUIRE(
      program(bench.dir, {"prepare", "other.zip", "-r", "r.toml", "-o", "other-kit"}).exit_code ==
      0);
  CHECK(codes_of({"ota.zip", "--like", "other-kit"}).contains("like-device"));
  // A partition that neither firmware nor sheet has.
  write(bench.dir / "foo.img", noise(4096));
  CHECK(codes_of({"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--with", "foo=foo.img"})
            .contains("unknown-partition-foo"));
  // Another phone's recovery.
  write(bench.dir / "recovery.img", image_of_build(BootBytes{.version = 4,
                                                             .kernel = arm64_kernel("5.10.1"),
                                                             .ramdisk = lz4_legacy(init_ramdisk())}
                                                       .done(),
                                                   "recovery", other, "2026-09-05", 1u << 18));
  write(bench.dir / "sheet.toml", Bench::sheet("recovery_a = 262144\n"));
  CHECK(codes_of(
            {"ota.zip", "-r", "r.toml", "--sheet", "sheet.toml", "--with", "recovery=recovery.img"})
            .contains("other-phone-recovery"));
}

TEST_CASE("prepare --with: a generic kernel's image names its own build, as the firmware's does") {
  const Bench bench;
  const auto generic = [](const std::string& build, std::uint32_t seed) {
    return image_of_build(
        BootBytes{.kernel = arm64_kernel("5.10." + std::to_string(seed)) + noise(99, seed)}.done(),
        "boot", "korvale/shared_arm64/shared:16/" + build + "/1:user/release-keys", "2026-09-05",
        1u << 18);
  };
  write(bench.dir / "fw/boot.img", generic("S1", 1));
  write(bench.dir / "fw/init_boot.img",
        image_of_build(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), "init_boot", kBuild,
                       "2026-09-05", 1u << 18));
  write(bench.dir / "newer.img", generic("S2", 2));
  const Ran ran = program(bench.dir, {"prepare", "fw", "-r", "r.toml", "--with", "boot=newer.img",
                                      "-o", "k", "--dry-run", "--json"});
  CAPTURE(ran.out);
  CHECK_FALSE(codes(Json::parse(ran.out)).contains("other-phone-boot"));
}

TEST_CASE("prepare: stopped before anything was worked out, it claims no start") {
  const Bench bench;
  write(bench.dir / "other.toml", "[phone]\ncodename = \"vernier\"\n");
  const Json said = bench.prepare({"-r", "r.toml", "--sheet", "other.toml"}, 1);
  CHECK(said["result"]["verification"]["locked"] == "cannot-tell");
  CHECK(said["result"]["verification"]["unlocked"] == "cannot-tell");
}
