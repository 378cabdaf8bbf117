/// The kit for the phone at hand: what fits, what is refused, what the kit holds.

#include <set>

#include "phone/link.hpp"
#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/containers.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/signed_set.hpp"
#include "support/vbmeta.hpp"
#include "support/wire_phone.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

constexpr const char* kBuild = "korvale/gnomon/gnomon:16/KV3A.1/20260905:user/release-keys";
constexpr std::size_t kMiB = 1u << 20;

const std::string kFstab =
    "system /system ext4 ro wait,slotselect,avb=vbmeta,logical,first_stage_mount\n"
    "/dev/block/by-name/userdata /data f2fs noatime wait,fileencryption=aes-256-xts\n";

const std::string kRecipe =
    "format = 1\nname = \"tests\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"hello\"\n"
    "keep_stock = true\n";
const std::string kFlags =
    "format = 1\nname = \"flags\"\n[[edit]]\nkind = \"vbmeta-flags\"\nset = "
    "[\"verification-disabled\", \"hashtree-disabled\"]\n";

std::string build_properties(const std::string& partition, const std::string& build,
                             const std::string& level) {
  return property_descriptor("com.android.build." + partition + ".fingerprint", build) +
         property_descriptor("com.android.build." + partition + ".security_patch", level);
}

/// With a footer whose struct names the build.
std::string image_of_build(const std::string& image, const std::string& partition,
                           const std::string& build, const std::string& level, std::size_t size) {
  std::string out = padded(image, 4096);
  const std::string structure =
      vbmeta(hash_descriptor(partition, image, "salt") + build_properties(partition, build, level));
  const std::size_t at = out.size();
  out += structure;
  out.resize(size - 64);
  return out + "AVBf" + be32(1) + be32(0) + be64(image.size()) + be64(at) + be64(structure.size()) +
         std::string(28, '\0');
}

std::string init_ramdisk() {
  return CpioBytes{}.folder("system").entry("init", elf("arm64", "stock"), 0100750, 0, 1).done();
}

/// A file system as far as its head and its property file go.
std::string file_system(std::size_t size, const std::string& properties) {
  std::string out(size, '\0');
  out[1080] = '\x53';
  out[1081] = '\xef';
  out.replace(8192, properties.size(), properties);
  return out;
}

/// gnomon, small: two slots, init_boot, a chain, a package with a payload, its phone's sheet.
struct Bench {
  Bench() {
    images["boot"] =
        with_footer(BootBytes{.kernel = arm64_kernel("5.10.1")}.done(), "boot", 1u << 18);
    images["init_boot"] =
        with_footer(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), "init_boot", 1u << 18);
    images["vendor_boot"] = with_footer(
        VendorBootBytes{.version = 4,
                        .ramdisk = lz4_legacy(CpioBytes{}
                                                  .folder("first_stage_ramdisk")
                                                  .file("first_stage_ramdisk/fstab.gnomon", kFstab)
                                                  .done()),
                        .dtb = device_tree("Tarn 3", "korvale,gnomon"),
                        .bootconfig = "androidboot.hardware=gnomon\n"}
            .done(),
        "vendor_boot", 1u << 18);
    images["vbmeta"] = padded(vbmeta(hash_descriptor("init_boot", "x", "s")), 4096);
    images["system"] = file_system(2 * kMiB, "ro.x=1\n");
    images["product"] = file_system(kMiB, "ro.y=1\n");
    write(dir / "ota.zip", ota());
    write(dir / "r.toml", kRecipe);
    write(dir / "flags.toml", kFlags);
    write(dir / "hello", elf("arm64", "the add-on"));
    write(dir / "sheet.toml", sheet());
  }

  [[nodiscard]] std::string ota(const std::string& build = kBuild) const {
    PayloadBytes payload;
    for (const char* name : {"boot", "init_boot", "vendor_boot", "system", "product", "vbmeta"})
      payload.partitions.push_back(partition_of(name, images.at(name), 1, 64));
    payload.groups = {{"main", {"system", "product"}}};
    return zip(
        {{"META-INF/com/android/metadata",
          "post-build=" + build + "\npre-device=gnomon\npost-security-patch-level=2026-09-05\n"},
         {"payload.bin", payload.done()}});
  }
  [[nodiscard]] static std::string sheet(const std::string& more = "") {
    return std::string(
               "[phone]\ncodename = \"gnomon\"\narchitecture = \"arm64\"\n[build]\n"
               "fingerprint = \"") +
           kBuild +
           "\"\npatch_level = \"2026-09-05\"\n[state]\nlock = \"unlocked\"\nslots = \"2\"\n"
           "current_slot = \"a\"\n[partitions]\nboot_a = 262144\ninit_boot_a = 262144\n"
           "vendor_boot_a = 262144\nvbmeta_a = 65536\n" +
           more;
  }
  [[nodiscard]] Json prepare(std::vector<std::string> more, int wanted = 0,
                             const std::string& kit = "kit") const {
    std::vector<std::string> words{"prepare", "ota.zip", "-o", kit};
    words.insert(words.end(), more.begin(), more.end());
    return program_json(dir, words, wanted);
  }
  [[nodiscard]] Json plan(const std::string& kit = "kit") const {
    return Json::parse(read(dir / (kit + "/report.json")));
  }
  TempDir dir;
  std::map<std::string, std::string> images;
};

std::string codes(const Json& document) {
  std::string out;
  for (const Json& one : document["findings"])
    out += one["level"].get<std::string>() + ":" + one["code"].get<std::string>() + " ";
  return out;
}

bool says(const Json& document, const std::string& code) {
  return codes(document).find(code + " ") != std::string::npos;
}

std::string acts(const Json& steps) {
  std::string out;
  for (const Json& one : steps)
    out += one["do"].get<std::string>() +
           (one.contains("partition") ? ":" + one["partition"].get<std::string>() : "") + " ";
  return out;
}

std::set<std::string> files_of(const fs::path& folder) {
  std::set<std::string> out;
  for (const auto& entry : fs::recursive_directory_iterator(folder))
    if (entry.is_regular_file())
      out.insert(entry.path().lexically_relative(folder).generic_string());
  return out;
}

}  // namespace

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
                              "flash/init_boot.img", "kit.json", "plan.toml", "plan.txt",
                              "recipes/1-tests.toml",
                              "recipes/files/" + hex_of(sha256(elf("arm64", "the add-on"))),
                              "report.html", "report.json", "stock/init_boot.img"});
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
  // As new as its sibling, or from another hand: they may well belong together.
  put(old.c_str(), "2026-09-05");
  CHECK(codes(prepare(0)).find("warning:mixed-") != std::string::npos);
  put("common/kernel/arm64:16/X/1:user/release-keys", "2026-01-05");
  CHECK(codes(prepare(0)).find(":mixed-") == std::string::npos);
  put(kBuild, "2026-09-05");
  write(bench.dir / "fw/boot.img", "soon");
  CHECK(prepare(1)["error"]["found"] == "placeholder-boot");
}

TEST_CASE("prepare: an image that the firmware's own vbmeta does not vouch for is no stock image") {
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
  CHECK_FALSE(says(prepare(stock, "init_boot", 0), "warning:unvouched-init_boot"));
  CHECK(prepare(other, "init_boot", 1)["error"]["found"] == "unvouched-init_boot");
  CHECK(says(prepare(other, "init_boot", 0, {"--accept", "unvouched-init_boot"}),
             "warning:unvouched-init_boot"));
  CHECK(says(prepare(other, "init_boot", 0, {}, false), "warning:unvouched-init_boot"));
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
  CHECK(bench.prepare(with({"--wipe"}), 1)["error"]["found"] == "not-vouched-system");
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
  const Json done = program_json(bench.dir, {"prepare", "home.tar", "-r", "r.toml", "-o", "kit"});
  CHECK(done["result"]["target"] == "boot");
  const std::string patched = "kit/package/phone-patched.tar.md5";
  CHECK(shell("tar tf " + patched, bench.dir.path().string()).out == "boot.img.lz4\n");
  CHECK(shell("tar xOf " + patched + " boot.img.lz4 | lz4 -dc | cmp - kit/flash/boot.img",
              bench.dir.path().string())
            .exit_code == 0);
  CHECK(shell("tar xOf kit/package/phone-stock.tar.md5 boot.img.lz4 | lz4 -dc | cmp - "
              "kit/stock/boot.img",
              bench.dir.path().string())
            .exit_code == 0);
  CHECK(program(bench.dir, {"extract", patched, "boot", "-o", "x"}).exit_code == 0);
  CHECK(acts(bench.plan()["plan"]) == "person mode hand-over restart person ");
  // A system of one's own goes with the whole super: nothing else writes it there.
  write(bench.dir / "gsi.img", noise(1536 * 1024, 9));
  REQUIRE(program_json(bench.dir, {"prepare", "home.tar", "-r", "r.toml", "--with",
                                   "system=gsi.img", "--wipe", "-o", "kit2"})["ok"] == true);
  REQUIRE(program(bench.dir,
                  {"extract", "kit2/package/phone-patched.tar.md5", "system", "vendor", "-o", "y"})
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

TEST_CASE("sheet: from properties to a file that prepare takes") {
  const Bench bench;
  write(bench.dir / "props.txt", "[ro.product.device]: [gnomon]\n[ro.build.fingerprint]: [" +
                                     std::string(kBuild) +
                                     "]\n(bootloader) partition-size:init_boot_a: 0x40000\n");
  write(bench.dir / "notes.toml", "[access]\nrecovery = \"both\"\n");
  const Json made = program_json(
      bench.dir, {"sheet", "--props", "props.txt", "--over", "notes.toml", "-o", "made.toml"});
  CHECK(made["result"]["facts"]["phone.codename"]["value"] == "gnomon");
  CHECK(made["result"]["facts"]["phone.model"].is_null());
  CHECK(made["result"]["partitions"]["init_boot_a"] == 0x40000);
  CHECK(bench.prepare({"-r", "r.toml", "--sheet", "made.toml"})["ok"] == true);
  CHECK(program_json(bench.dir, {"sheet", "--props", "props.txt", "-o", "made.toml"},
                     5)["error"]["code"] == "exists");
  write(bench.dir / "empty.txt", "nothing of use\n");
  CHECK(program_json(bench.dir, {"sheet", "--props", "empty.txt", "-o", "x.toml"},
                     3)["error"]["code"] == "bad-value");
  CHECK(program_json(bench.dir, {"sheet", "-o", "x.toml"}, 2)["error"]["code"] == "usage");
  write(bench.dir / "few.txt", "[ro.product.model]: [Tarn]\n");
  CHECK(says(program_json(bench.dir, {"sheet", "--props", "few.txt"}), "warning:no-device"));
}

TEST_CASE("sheet: a phone at its bootloader tells what it knows, and older notes are kept") {
  const TempDir dir;
  write(dir / "notes.toml", "[phone]\nvariant = \"eu\"\n[access]\nbootloader = \"both keys\"\n");
  std::string address;
  {
    const WirePhone phone(
        wexlo::Wire::Tcp,
        {.variables = {
             {"product", "gnomon"}, {"unlocked", "no"}, {"partition-size:boot_a", "0x4000000"}}});
    address = wexlo::address_text(phone.address());
    const Json got =
        program_json(dir, {"sheet", "--phone", address, "--over", "notes.toml", "-o", "s.toml"});
    const Json& facts = got["result"]["facts"];
    CHECK(facts["phone.product"]["value"] == "gnomon");
    CHECK(facts["phone.product"]["source"] == "product in the bootloader");
    CHECK(facts["phone.variant"]["value"] == "eu");
    CHECK(facts["state.lock"]["value"] == "locked");
    CHECK(got["result"]["partitions"]["boot_a"] == 0x4000000);
    CHECK(read(dir / "s.toml").find("both keys") != std::string::npos);
  }
  const Json gone = program_json(dir, {"sheet", "--phone", address, "-o", "x.toml"}, 6);
  CHECK(gone["error"]["code"] == "link-lost");
  CHECK(gone["error"]["file"] == address);
  CHECK(program_json(dir, {"sheet", "--phone", "bench", "-o", "x.toml"}, 2)["error"]["code"] ==
        "usage");
  CHECK(program_json(dir, {"sheet", "--phone", "fastboot+usb://", "-o", "x.toml"},
                     4)["error"]["code"] == "unsupported");
  CHECK_FALSE(fs::exists(dir / "x.toml"));
}
