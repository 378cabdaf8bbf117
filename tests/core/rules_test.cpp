/// Startability, an image at a time: every rule provoked, and valid sets that provoke none.

#include <algorithm>
#include <regex>

#include "base/crc.hpp"
#include "core/rules_bench.hpp"
#include "support/signed_set.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("rules: a valid set has no problem") {
  const Checked checked = SmallPhone().check();
  CAPTURE(told(checked));
  for (const Finding& one : checked.findings)
    CHECK(one.level == Level::Note);
  CHECK(checked.startable);
  for (const unsigned version : {0u, 1u, 2u}) {
    const Checked old = judge(older(version).done());
    CAPTURE(told(old));
    CHECK(std::ranges::none_of(old.findings,
                               [](const auto& f) { return f.level == Level::Problem; }));
  }
}

TEST_CASE("rules: header and sections") {
  std::string image = older(2).done();
  std::string bad = image;
  bad.replace(1644, 4, le32(999));
  CHECK_FINDS(judge(bad), "header-form", "");
  CHECK_FINDS(judge(std::string(8192, 'x')), "header-form", "problem");
  bad = image;
  bad.replace(36, 4, le32(3000));
  CHECK_FINDS(judge(bad), "section-bounds", "problem");
  bad = image;
  bad.replace(16, 4, le32(0x7fffffff));
  CHECK_FINDS(judge(bad), "section-bounds", "problem");
  CHECK_FINDS(judge(image + "123"), "file-length", "");
  CHECK_FINDS(judge(footed(image, "boot", 2 << 20), footed(image)), "partition-size", "problem");
  CHECK_FINDS(judge(image, footed(image)), "file-length", "");
}

TEST_CASE("rules: an image of another kind than its partition takes is none that a loader reads") {
  const std::string trees = TableBytes{.blobs = {device_tree("Tarn 3", "korvale,gnomon")}}.done();
  const auto images = SmallPhone().images();
  for (const auto& [partition, held] :
       {std::pair{"init_boot", trees},
        {"boot", images.at("vendor_boot")},
        {"vendor_boot", images.at("init_boot")},
        {"init_boot", padded(vbmeta(property_descriptor("a", "b")), 4096)}}) {
    CAPTURE(partition);
    SmallPhone phone;
    phone.extra[partition] = held;
    const Checked checked = phone.check();
    CHECK_FINDS(checked, "header-form", "problem");
    CHECK_FALSE(checked.startable);
    CHECK_FALSE(checked.unlocked.starts());
  }
  // What a maker keeps in partitions of its own is its affair.
  SmallPhone phone;
  phone.extra["dtbo"] = trees;
  CHECK(phone.check().startable);
}

TEST_CASE("rules: device trees, id, kernel") {
  BootBytes boot = older(2);
  boot.dtb = noise(4096);
  CHECK_FINDS(judge(boot.done()), "tree-section", "");
  boot = older(1);
  boot.recovery_dtbo = TableBytes{.blobs = {device_tree("x", "y")}}.done();
  std::string image = boot.done();
  image.replace(1636, 8, le64(4096));
  CHECK_FINDS(judge(image), "tree-section", "");
  image = older(1).done();
  image[580] = static_cast<char>(image[580] ^ 1);
  CHECK_FINDS(judge(image), "id-digest", "warning");
  boot = older(1);
  boot.kernel.clear();
  CHECK_FINDS(judge(boot.done()), "kernel", "");
  boot = older(1);
  boot.id = BootBytes::Id::None;
  boot.kernel = gzip(arm64_kernel("4.19.0"));
  boot.kernel[boot.kernel.size() / 2] = static_cast<char>(boot.kernel[boot.kernel.size() / 2] ^ 8);
  CHECK_FINDS(judge(boot.done()), "kernel", "problem");
  boot.kernel = noise(9000);
  CHECK_FINDS(judge(boot.done()), "kernel", "warning");
}

TEST_CASE("rules: what the stock image has around its parts") {
  BootBytes stock = older(1);
  stock.kernel += device_tree("A", "a") + device_tree("B", "b");
  BootBytes bare = older(1), swapped = older(1);
  swapped.kernel += device_tree("B", "b") + device_tree("A", "a");
  CHECK_FINDS(judge(bare.done(), stock.done()), "appended-trees", "problem");
  CHECK_FINDS(judge(swapped.done(), stock.done()), "appended-trees", "problem");

  std::string wrapped = sealed(bare.done());
  CHECK_FINDS(judge(bare.done(), wrapped), "maker-prefix", "problem");
  wrapped[20] = static_cast<char>(wrapped[20] ^ 1);
  CHECK_FINDS(judge(wrapped), "maker-prefix", "");
  BootBytes part = older(1);
  part.kernel = chipset_header("KERNEL", part.kernel) + part.kernel;
  part.kernel.replace(4, 4, le32(0x00ffffff));
  part.id = BootBytes::Id::None;
  CHECK_FINDS(judge(part.done()), "maker-prefix", "problem");

  const std::string trailer = "SEANDROIDENFORCE";
  CHECK_FINDS(judge(bare.done(), bare.done() + trailer), "enforcing-trailer", "warning");
  CHECK_FINDS(judge(bare.done() + std::string(2048, '\0') + trailer, bare.done() + trailer),
              "enforcing-trailer", "warning");
}

TEST_CASE("rules: ramdisks") {
  SmallPhone phone;
  CpioBytes generic = phone.generic;
  const std::string archive = generic.done();
  phone.init.ramdisk = lz4_frame(archive);
  CHECK_FINDS(phone.check(), "ramdisk-packing", "problem");
  phone.init.ramdisk = xz(archive, false);
  CHECK_FINDS(phone.check(), "ramdisk-packing", "problem");
  phone.init.ramdisk = lz4_legacy(archive);
  phone.init.ramdisk.resize(phone.init.ramdisk.size() / 2);
  CHECK_FINDS(phone.check(), "ramdisk-packing", "problem");
  phone.init.ramdisk = gzip(archive);  // behind vendor_boot's lz4
  CHECK_FINDS(phone.check(), "joined-ramdisk", "problem");

  SmallPhone weak;
  weak.generic = CpioBytes();
  weak.generic.file("init",
                    "\x7f"
                    "ELF",
                    0100640);
  CHECK_FINDS(weak.check(), "joined-ramdisk", "problem");
  weak.generic = CpioBytes();
  weak.generic.link("init", "/system/bin/init");
  CHECK_FINDS(weak.check(), "joined-ramdisk", "problem");
  weak.generic = CpioBytes();
  weak.generic.folder("dev");
  CHECK_FINDS(weak.check(), "joined-ramdisk", "problem");

  BootBytes boot = older(1);
  CpioBytes odd;
  odd.file("init",
           "\x7f"
           "ELF",
           0100750)
      .file("etc/x", "y")
      .folder("etc");
  boot.ramdisk = gzip(odd.done());
  boot.id = BootBytes::Id::None;
  CHECK_FINDS(judge(boot.done()), "archive-order", "problem");
  CpioBytes twice;
  twice
      .file("init",
            "\x7f"
            "ELF",
            0100750)
      .file("x", "1")
      .file("x", "2");
  boot.ramdisk = gzip(twice.raw());
  const Checked seen = judge(boot.done());
  CAPTURE(told(seen));
  CHECK(std::ranges::count(seen.findings, FindingId(FindingCode::ArchiveOrder), &Finding::id) == 2);
}

TEST_CASE("rules: what a kernel cannot run is never told to start") {
  const auto with_init = [](const std::string& content) {
    SmallPhone phone;
    phone.generic = CpioBytes();
    phone.generic.file("init", content, 0100750);
    return phone.check();
  };
  // A 64-bit little-endian program's first bytes; its processor stands at 18.
  const auto elf = [](char machine) {
    std::string out(64, '\0');
    out.replace(0, 6, std::string("\x7f") + "ELF\x02\x01");
    out[16] = 2;
    out[18] = machine;
    return out;
  };
  constexpr char kX86_64 = 62, kArm = 40, kArm64 = '\xb7';
  for (const std::string& picture :
       {std::string("\x89PNG\r\n\x1a\n") + noise(99), elf(kX86_64), std::string("GIF89a")}) {
    const Checked checked = with_init(picture);
    CAPTURE(told(checked));
    CHECK(finds(checked, "joined-ramdisk", "problem"));
    CHECK(checked.locked.outlook == verified::Outlook::Refuses);
    CHECK(checked.unlocked.outlook == verified::Outlook::Refuses);
  }
  for (const std::string& program : {std::string("#!/system/bin/sh\n"), elf(kArm), elf(kArm64)}) {
    const Checked checked = with_init(program);
    CAPTURE(told(checked));
    CHECK_FALSE(finds(checked, "joined-ramdisk"));
    CHECK(checked.unlocked.outlook == verified::Outlook::Starts);
  }
  // Alone, it says nothing of where its /init comes from.
  SmallPhone alone;
  alone.without = {"boot", "init_boot"};
  CHECK(alone.check().unlocked.outlook == verified::Outlook::CannotTell);
  alone.without = {"boot", "vendor_boot"};
  CHECK(alone.check().unlocked.outlook == verified::Outlook::Starts);
  alone.generic = CpioBytes();
  alone.generic.folder("dev");
  CHECK(alone.check().unlocked.outlook == verified::Outlook::Refuses);
  // A packing that is not read here may be one that the kernel reads.
  SmallPhone packed;
  packed.init.ramdisk = "\x89LZO" + noise(500);
  const Checked unknown = packed.check();
  CAPTURE(told(unknown));
  CHECK(unknown.unlocked.outlook != verified::Outlook::Starts);
}

TEST_CASE("rules: a ramdisk that the run may not hold was not looked at, and is no damaged one") {
  const SmallPhone phone;
  const TempDir folder;
  SmallPhone::put(folder, phone.images());
  Context context;
  context.held = std::make_shared<HeldBytes>(1000);
  const Checked checked = value_of(check_paths({folder.path().string()}, {}, context));
  CAPTURE(told(checked));
  CHECK(checked.unlocked.outlook == verified::Outlook::CannotTell);
  CHECK_FALSE(finds(checked, "ramdisk-packing", "problem"));
  CHECK(finds(checked, "ramdisk-packing", "warning"));
}

TEST_CASE("rules: carriage returns that the stock file has not") {
  SmallPhone stock, changed;
  changed.fstab.clear();
  for (const char one : kFstab)
    changed.fstab += one == '\n' ? std::string("\r\n") : std::string(1, one);
  CHECK_FINDS(changed.check(), "text-form", "warning");
  const Checked checked = changed.against(stock);
  CAPTURE(told(checked));
  CHECK(finds(checked, "text-form", "problem"));
  CHECK_FALSE(checked.unlocked.starts());
  // The maker's own way is no fault.
  SmallPhone same = changed;
  same.generic.file("x", "y");
  CHECK_FALSE(finds(same.against(changed), "text-form"));
  for (const char* name : {"init.rc", "default.prop", "etc/init/hw/init.rc"}) {
    SmallPhone other;
    other.generic.folder("etc").folder("etc/init").folder("etc/init/hw").file(name, "a\r\nb\r\n");
    CHECK_FINDS(other.against(stock), "text-form", "");
  }
}

TEST_CASE("rules: modules, mount tables, fragments") {
  SmallPhone phone;
  phone.modules_list = "a.ko\nkernel/drivers/b.ko\n";
  CHECK_FINDS(phone.check(), "kernel-modules", "warning");
  phone = SmallPhone();
  phone.built_for = "5.15.74-android13-8-00001";
  CHECK_FINDS(phone.check(), "kernel-modules", "warning");
  phone.built_for = "5.10.198-android13-4-00100";  // the same generation
  CHECK_FALSE(finds(phone.check(), "kernel-modules"));

  const SignedSet chain = signed_set();
  const auto fstab = [&](const std::string& rows, std::string_view level) {
    SmallPhone one;
    one.fstab = rows;
    one.extra["vbmeta"] = text(chain.images.at("vbmeta"));
    CHECK_FINDS(one.check(), "mount-table", level);
  };
  fstab("system /system ext4 ro\n", "problem");
  fstab("system /system ext4 ro wait,,avb\n", "problem");
  fstab("system /system ext4 ro wait,avb=vbmeta_system\n", "problem");
  fstab("system /system ext4 ro wait,avb_keys=/avb/a.pub:/avb/b.pub\n", "problem");
  SmallPhone other;
  other.vendor.bootconfig = "androidboot.hardware=vernier\n";
  CHECK_FINDS(other.check(), "mount-table", "warning");

  SmallPhone fragments;
  const std::string ramdisk = fragments.vendor_ramdisk();
  fragments.vendor.named = {{"x", 1, ramdisk, 0}, {"x", 1, ramdisk, 0}};
  CHECK_FINDS(fragments.check(), "fragment-table", "problem");
  fragments.vendor.named = {{"r", 2, ramdisk, 0}};
  CHECK_FINDS(fragments.check(), "fragment-table", "warning");
  SmallPhone broken;
  std::string image = broken.images().at("vendor_boot");
  image.replace(2116, 4, le32(50));
  broken.extra["vendor_boot"] = image;
  CHECK_FINDS(broken.check(), "fragment-table", "problem");
}

TEST_CASE("rules: each is documented as it is, and provoked by a test") {
  const std::string page = read(std::filesystem::path(source_folder()) / "docs/checks.md");
  std::string tests;
  for (const char* file : {"rules_test.cpp", "rules_set_test.cpp"})
    tests += read(std::filesystem::path(source_folder()) / "tests/core" / file);
  const auto rules = kinds_of(FindingArea::Start);
  for (const FindingKind* one : rules) {
    const std::string row = fmt::format("| `{}` | {} | {} |", one->name, level_name(one->level),
                                        one->locked_only ? "locked" : "any");
    CAPTURE(row);
    CHECK(page.contains(row));
    // As what a CHECK_FINDS ends with, or in a CHECK of `finds` that has to be true.
    CHECK(std::regex_search(
        tests,
        std::regex(fmt::format(R"re("{0}",\s*"\w*"\);|CHECK\(finds\(\w+, "{0}")re", one->name))));
  }
  std::size_t rows = 0;
  for (auto at = page.find("\n| `"); at != page.npos; at = page.find("\n| `", at + 1))
    ++rows;
  CHECK(rows == rules.size());
}

TEST_CASE("rules: an image of its partition's size fits, a byte more does not") {
  const std::string stock = footed(older(1).done(), "boot", 1 << 20);
  CHECK_FALSE(finds(judge(stock, stock), "partition-size"));
  CHECK_FALSE(finds(judge(stock, stock), "file-length"));
  CHECK_FINDS(judge(stock + "x", stock), "partition-size", "problem");
}

TEST_CASE(
    "rules: a file may stand in a linked folder, and the first program is a file that may run") {
  BootBytes boot = older(1);
  const auto with = [&](CpioBytes ramdisk) {
    boot.ramdisk = gzip(ramdisk.done());
    return judge(boot.done());
  };
  const auto start = [] { return CpioBytes{}.file("init", "#!/bin/sh", 0100750); };
  CHECK_FALSE(finds(with(start().link("etc", "/system/etc").file("etc/x", "y")), "archive-order"));
  CHECK_FINDS(with(start().file("etc/x", "y")), "archive-order", "");
  SmallPhone phone;
  phone.generic = CpioBytes();
  phone.generic.folder("init");
  const Checked folder = phone.check();
  CAPTURE(told(folder));
  CHECK(finds(folder, "joined-ramdisk", "problem"));
  CHECK(told(folder).contains("/init is no file"));
}
