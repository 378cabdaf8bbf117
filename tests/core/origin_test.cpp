#include "judge/origin.hpp"

#include "inspect/inspect.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

ImageInfo inspected(const std::string& bytes, const std::filesystem::path& path = {}) {
  const auto loaded = load_image(blob(bytes), "test.img");
  REQUIRE(loaded);
  const auto reading = read_deep(*loaded, {});
  REQUIRE(reading);
  auto info = image_info(*loaded, *reading, path, {}, Depth::Usual);
  REQUIRE(info);
  return std::move(*info);
}

/// Entries that all have one time, as a maker's tools write them.
CpioBytes stock() {
  CpioBytes out;
  for (const char* folder : {"dev", "mnt", "proc", "sys", "system", "system/etc", "metadata"})
    out.folder(folder);
  out.file("init",
           "\x7f"
           "ELF the stock init",
           0100750);
  out.file("system/etc/build.prop", "ro.debuggable=0\n");
  return out;
}

std::string init_boot(CpioBytes entries, bool footer) {
  const std::string image = BootBytes{.ramdisk = test::gzip(entries.done())}.done();
  return footer ? with_footer(image, "init_boot", 1u << 16) : image;
}

std::string kinds(const ImageInfo& info) {
  std::string out;
  for (const Sign& sign : info.origin.signs)
    out += std::string(sign_name(sign.kind)) + ";";
  return out;
}

}  // namespace

TEST_CASE(
    "origin: pristine by its own digest, unknown without one, and never altered by one sign") {
  CHECK(inspected(init_boot(stock(), true)).origin.word == OriginWord::Pristine);
  CHECK(inspected(init_boot(stock(), false)).origin.word == OriginWord::Unknown);
  const auto one = inspected(init_boot(stock().file("kept/init.first",
                                                    "\x7f"
                                                    "ELF"),
                                       false));
  CHECK(kinds(one) == "second-init;folders;");  // a folder no generic ramdisk has counts besides
  CHECK(one.origin.word == OriginWord::Altered);
  const auto alone = inspected(init_boot(stock().file("system/init.first",
                                                      "\x7f"
                                                      "ELF"),
                                         true));
  CHECK(kinds(alone) == "second-init;");
  CHECK(alone.origin.word == OriginWord::Unknown);
  CHECK(alone.origin.reason.find("/system/init.first") != std::string::npos);
}

TEST_CASE("origin: odd folders or times alone do not speak against a true digest") {
  const auto maker = inspected(
      init_boot(stock().folder("makers-own").entry("late", "x", 0100644, 0, 1, 0, 0, 77), true));
  CHECK(kinds(maker) == "pattern;folders;");
  CHECK(maker.origin.word == OriginWord::Pristine);
  const auto bare = inspected(
      init_boot(stock().folder("makers-own").entry("late", "x", 0100644, 0, 1, 0, 0, 77), false));
  CHECK(bare.origin.word == OriginWord::Altered);
}

TEST_CASE("origin: a stale digest and a second init are another tool") {
  std::string image = init_boot(stock().file("system/init.kept",
                                             "\x7f"
                                             "ELF"),
                                true);
  // The footer's digest is of other bytes: a header field is changed afterwards.
  image[16] ^= 1;
  const auto info = inspected(image);
  CHECK(kinds(info) == "digest;second-init;");
  CHECK(info.origin.word == OriginWord::Altered);
}

TEST_CASE("origin: a hidden root folder is a sign in older layouts too, makers' folders are none") {
  const auto old = [](CpioBytes entries) {
    return inspected(BootBytes{
        .version = 1, .page = 2048, .kernel = noise(50), .ramdisk = test::gzip(entries.done())}
                         .done());
  };
  CHECK(kinds(old(stock().folder("makers-own"))).empty());
  CHECK(kinds(old(stock().folder(".kept"))) == "folders;");
}

TEST_CASE("origin: mount points without verification, against their siblings and against vbmeta") {
  const std::string fstab =
      "/dev/a /system ext4 ro wait,first_stage_mount\n/dev/b /vendor ext4 ro "
      "avb,first_stage_mount\n";
  const auto sibling = inspected(init_boot(stock().file("fstab.x", fstab), false));
  CHECK(kinds(sibling) == "flags;");
  const std::string none = "/dev/b /vendor ext4 ro wait,first_stage_mount\n";
  CHECK(kinds(inspected(init_boot(stock().file("fstab.x", none), false))).empty());
  const TempDir dir;
  test::write(dir / "vbmeta.img", padded(vbmeta(hashtree_descriptor("vendor")), 4096));
  CHECK(kinds(inspected(init_boot(stock().file("fstab.x", none), false), dir / "boot.img")) ==
        "flags;");
}

TEST_CASE("origin: a recovery that no maker signed") {
  const auto recovery = [](const std::string& build) {
    return inspected(init_boot(stock()
                                   .file("system/bin/recovery",
                                         "\x7f"
                                         "ELF")
                                   .file("prop.default", build),
                               false));
  };
  CHECK(kinds(recovery("ro.build.type=user\nro.build.tags=release-keys\n")).empty());
  CHECK(kinds(recovery("ro.build.type=eng\n")) == "recovery;");
  // A static first program alone is no sign.
  CHECK(kinds(recovery("ro.build.type=user\n")).empty());
}

TEST_CASE("permissive: words in command line, bootconfig, properties and device trees are told") {
  BootBytes b{
      .version = 2,
      .page = 2048,
      .kernel = noise(50),
      .ramdisk = test::gzip(stock().file("default.prop", "ro.boot.selinux=permissive\n").done()),
      .dtb = device_tree("Korvale", "korvale,x", "quiet enforcing=0")};
  b.cmdline = "console=ttyKV0 androidboot.selinux=permissive selinux=01";
  const auto info = inspected(b.done());
  std::string all;
  for (const PermissiveWord& word : info.permissive)
    all += word.where + ":" + word.word + ";";
  CHECK(all ==
        "cmdline:androidboot.selinux=permissive;/default.prop:ro.boot.selinux=permissive;"
        "device tree /chosen:enforcing=0;");
  VendorBootBytes v{.bootconfig = "androidboot.selinux = \"permissive\"\nandroidboot.x=1\n"};
  v.ramdisk = test::gzip(stock().done());
  CHECK(inspected(v.done()).permissive.front().where == "bootconfig");
  CHECK(permissive_words("androidboot.selinux=enforcing enforcing=1 myselinux=0", "x").empty());
}

TEST_CASE(
    "starts: which fragments are joined for a normal start and for recovery, in which order") {
  VendorBootBytes v;
  v.named = {{"", 1, test::lz4_legacy(stock().done())},
             {"rec", 2, test::lz4_legacy(stock().done())},
             {"mods", 3, test::lz4_legacy(stock().done())}};
  const auto join = [](const std::vector<StartPart>& parts) {
    std::string out;
    for (const StartPart& part : parts)
      out += part.partition + "/" + part.type + " ";
    return out;
  };
  const auto alone = inspected(v.done()).starts;
  CHECK(join(alone.normal) == "vendor_boot/platform vendor_boot/dlkm init_boot or boot/generic ");
  CHECK(join(alone.recovery) ==
        "vendor_boot/platform vendor_boot/recovery vendor_boot/dlkm init_boot or boot/generic ");
  CHECK(alone.problems.empty());
  const TempDir dir;
  test::write(dir / "vendor_boot.img", v.done());
  test::write(dir / "init_boot.img", init_boot(stock(), false));  // gzip behind lz4
  const auto folder = inspect(dir.path());
  REQUIRE(folder);
  CHECK(join(folder->starts.normal) == "vendor_boot/platform vendor_boot/dlkm init_boot/generic ");
  CHECK(folder->starts.problems.size() == 2);
  const auto old =
      inspected(BootBytes{.version = 1,
                          .page = 2048,
                          .kernel = noise(9),
                          .ramdisk = test::gzip(stock().file("sbin/recovery", "x").done())}
                    .done())
          .starts;
  CHECK(join(old.normal) == "boot/own ");
  CHECK(join(old.recovery) == "boot/own ");
}

TEST_CASE("origin: owners that are as mixed as files are, and words inside a line, say nothing") {
  const auto owned = [](int odd, int usual) {
    CpioBytes entries = stock();  // nine entries of the system's own
    for (int i = 0; i < odd; ++i)
      entries.entry("odd" + std::to_string(i), "x", 0100644, 0, 1, 10'050);
    for (int i = 0; i < usual; ++i)
      entries.file("usual" + std::to_string(i), "x");
    return kinds(inspected(init_boot(entries, false)));
  };
  CHECK(owned(1, 0).contains("pattern"));
  CHECK_FALSE(owned(5, 0).contains("pattern"));
  const auto recovery = [](const std::string& build) {
    return kinds(inspected(init_boot(stock()
                                         .file("system/bin/recovery",
                                               "\x7f"
                                               "ELF")
                                         .file("prop.default", build),
                                     false)));
  };
  CHECK(recovery("a=b\nro.build.type=eng\n") == "recovery;");
  CHECK(recovery("#ro.build.type=eng\n").empty());
  CHECK(recovery("ro.build.type=engineer\n").empty());
}
