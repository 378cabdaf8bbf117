/// Startability of images together: the chain, the slots, the stock firmware beside them.

#include <algorithm>

#include "base/crc.hpp"
#include "core/rules_bench.hpp"
#include "support/patching.hpp"
#include "support/signed_set.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// The signed phone's images in a folder.
Checked judge_signed(const SignedSet& set, CheckOptions options = {}) {
  TempDir folder;
  for (const auto& [name, bytes] : set.images)
    write(folder.path() / (name + ".img"), text(bytes));
  options.key = signer(KeyOf::Root).public_key();
  return value_of(check_paths({folder.path().string()}, options, {.jobs = 2}));
}

}  // namespace

TEST_CASE("rules: what goes together") {
  SmallPhone phone;
  phone.without = {"vendor_boot"};
  CHECK_FINDS(phone.check(), "version-pair", "problem");
  phone.without = {"init_boot"};
  CHECK_FINDS(phone.check(), "version-pair", "problem");
  phone = SmallPhone();
  phone.vendor.version = 3;
  CHECK_FINDS(phone.check(), "version-pair", "warning");

  for (const std::string text :
       {"a.b {", "a..b = 1", "= 1", "a = \"x", "a {\nb = 1\n", "a = 1\na = 2", "}", "a = b } c"}) {
    CAPTURE(text);
    SmallPhone one;
    one.vendor.bootconfig = text;
    CHECK_FINDS(one.check(), "bootconfig", "problem");
  }
  for (const char* text : {"a.b = 1\nc = x, y, 'z' ; d\n# note\ne { f = \"a b\"\n g.h { i } }\n",
                           "key += 1\nkey += 2", "a=1;b=2"}) {
    CAPTURE(text);
    CHECK(bootconfig_trouble(text) == "");
  }
  SmallPhone longer;
  longer.vendor.bootconfig = "a = " + std::string(32000, 'x');
  CHECK_FINDS(longer.check(), "bootconfig", "warning");
  longer.vendor.bootconfig = "a = " + std::string(40000, 'x');
  CHECK_FINDS(longer.check(), "bootconfig", "problem");
  CHECK(bootconfig_trouble(std::string(9000 * 2, 'a')).contains("255"));
}

TEST_CASE("rules: vendor_kernel_boot's ramdisk is joined behind vendor_boot's") {
  const auto judged = [](SmallPhone phone, const std::string& ramdisk) {
    phone.extra["vendor_kernel_boot"] = VendorBootBytes{.version = 4, .ramdisk = ramdisk}.done();
    return phone.check();
  };
  const SmallPhone phone;
  CpioBytes modules;
  modules.folder("lib").file("lib/other.ko", module(phone.release));
  CHECK_FALSE(finds(judged(phone, lz4_legacy(modules.done())), "joined-ramdisk"));
  // Behind lz4 a kernel reads no other packing.
  CHECK_FINDS(judged(phone, gzip(modules.done())), "joined-ramdisk", "problem");
  // What the generic ramdisk's link leads to may be there.
  SmallPhone linked;
  linked.generic = CpioBytes();
  linked.generic.folder("dev").link("init", "/first/init");
  CHECK_FINDS(judged(linked, lz4_legacy(modules.done())), "joined-ramdisk", "problem");
  CpioBytes first;
  first.folder("first").file("first/init", "#!/bin/sh\n", 0100750);
  CHECK_FALSE(finds(judged(linked, lz4_legacy(first.done())), "joined-ramdisk"));
}

TEST_CASE("rules: a first program that is linked for smaller pages than the kernel's") {
  SmallPhone phone;
  std::string program = elf("arm64", std::string(56, '\0') + noise(100));
  program.replace(32, 8, le64(64));
  program.replace(54, 2, le16(56));
  program.replace(56, 2, le16(1));
  program.replace(64, 4, le32(1));
  program.replace(64 + 48, 8, le64(0x1000));
  phone.generic = CpioBytes();
  phone.generic.folder("dev").file("init", program, 0100750);
  CHECK_FALSE(finds(phone.check(), "program-pages"));
  phone.boot.kernel.replace(24, 8, le64(4));  // 16 KiB
  CHECK_FINDS(phone.check(), "program-pages", "problem");
  program.replace(64 + 48, 8, le64(0x4000));
  phone.generic = CpioBytes();
  phone.generic.folder("dev").file("init", program, 0100750);
  CHECK_FALSE(finds(phone.check(), "program-pages"));
}

TEST_CASE("rules: mount tables by the suffix, the hardware, or the platform") {
  const auto told_of = [](const std::string& config) {
    SmallPhone phone;
    phone.vendor.bootconfig = config;
    return finds(phone.check(), "mount-table");
  };
  CHECK(told_of("androidboot.hardware=other\n"));
  CHECK_FALSE(told_of("androidboot.hardware=other\nandroidboot.hardware.platform=gnomon\n"));
  CHECK_FALSE(told_of("androidboot.fstab_suffix=gnomon\nandroidboot.hardware=other\n"));
}

TEST_CASE("rules: parts that overlap where the loader puts them, and did not in the stock image") {
  const auto image = [](std::size_t kernel, std::uint32_t ramdisk_at) {
    BootBytes boot = older(1);
    boot.kernel.resize(kernel, '\0');
    std::string bytes = boot.done();
    return bytes.replace(20, 4, le32(ramdisk_at));
  };
  const std::uint32_t at = 0x10008000 + 40'000;
  const std::string stock = image(30'000, at);
  CHECK_FINDS(judge(image(50'000, at), stock), "load-overlap", "warning");
  CHECK_FALSE(finds(judge(image(35'000, at), stock), "load-overlap"));
  // Up to where the next one begins, and one byte over it.
  CHECK_FALSE(finds(judge(image(40'000, at), stock), "load-overlap"));
  CHECK_FINDS(judge(image(40'001, at), stock), "load-overlap", "warning");
  CHECK_FALSE(finds(judge(image(50'000, at), image(45'000, at)), "load-overlap"));
}

TEST_CASE("rules: bytes behind a footer are told, and are no part of the image") {
  const std::string stock = footed(older(1).done());
  const Checked seen = judge(stock + "SIGNATURE" + noise(500));
  CAPTURE(told(seen));
  CHECK(finds(seen, "file-length", "note"));
  CHECK_FALSE(finds(seen, "file-length", "warning"));
  CHECK_FALSE(finds(judge(stock), "file-length"));
}

TEST_CASE("rules: verified boot") {
  const auto spoilt = [](auto spoil) {
    SignedSet set = signed_set();
    spoil(set);
    return set;
  };
  const auto changed = spoilt([](SignedSet& s) { s.at("init_boot")[5] ^= std::byte{1}; });
  CHECK_FINDS(judge_signed(changed), "image-digest", "problem");
  CHECK_FINDS(judge_signed(changed, {.locked = false}), "image-digest", "warning");
  CHECK_FINDS(judge_signed(spoilt([](SignedSet& s) { s.write_top(nullptr); })), "signature",
              "problem");
  CHECK_FINDS(judge_signed(spoilt([](SignedSet& s) {
                s.boot.set_flags(2);
                s.write_boot();
              })),
              "chain-flags", "problem");
  CHECK_FINDS(judge_signed(signed_set(), {.rollback = {{1, 99}}}), "rollback-index", "problem");
  CHECK_FINDS(
      judge_signed(spoilt([](SignedSet& s) { s.at("boot").resize(60000); }), {.locked = false}),
      "verified-struct", "problem");
  CHECK_FINDS(judge_signed(spoilt([](SignedSet& s) { s.at("system")[5] ^= std::byte{1}; })),
              "system-digest", "problem");
  CHECK_FINDS(
      judge_signed(spoilt([](SignedSet& s) { s.at("system")[(150 + 3) * 4096] ^= std::byte{1}; })),
      "error-correction", "warning");
  const std::string image = footed(older(1).done());
  std::string stale = image;
  stale[3000] = static_cast<char>(stale[3000] ^ 1);
  CHECK_FINDS(judge(stale), "image-digest", "problem");
  CHECK_FINDS(judge(older(1).done(), image), "verified-struct", "warning");
}

TEST_CASE("rules: older than the stock image, of another build, for another phone") {
  SmallPhone stock, phone;
  phone.init.os_version = 0x1e000145;
  CHECK_FINDS(phone.against(stock), "patch-level", "warning");
  CHECK_FINDS(phone.against(stock), "os-version", "warning");
  phone = SmallPhone();
  phone.vendor.cmdline = "console=ttyKV1 bootconfig";
  phone.vendor.dtb = device_tree("Tarn 9", "korvale,other");
  const Checked checked = phone.against(stock);
  CAPTURE(told(checked));
  CHECK(std::ranges::count(checked.findings, FindingId(FindingCode::DeviceIdentity),
                           &Finding::id) == 2);
  CHECK_FINDS(checked, "device-identity", "warning");
  // The chain's own: a patch without the key is never to be locked in.
  const SignedSet set = signed_set();
  TempDir folder, other;
  for (const auto& [name, bytes] : set.images)
    write(folder.path() / (name + ".img"), text(bytes));
  Bytes patched = set.images.at("boot");
  patched[99] ^= std::byte{1};
  write(other.path() / "boot.img", text(patched));
  CheckOptions options{.against = folder.path().string()};
  const auto judged = value_of(check_paths({(other.path() / "boot.img").string()}, options, {}));
  CHECK_FINDS(judged, "locked-change", "problem");
  CHECK(judged.root == RootKey::Stock);
  options.locked = false;
  CHECK_FINDS(value_of(check_paths({(other.path() / "boot.img").string()}, options, {})),
              "locked-change", "warning");
}

TEST_CASE("rules: slots, merges, super, unused ramdisks") {
  const auto misc = [](const std::string& active, std::uint16_t a, std::uint16_t b) {
    std::string control = field(active, 4) + le32(0x42414342) + std::string("\x01\x02\0\0", 4) +
                          le32(static_cast<std::uint32_t>(a | b << 16)) + std::string(12, '\0');
    control += le32(crc32_by_hand(control));
    return std::string(2048, '\0') + control + std::string(65536 - 2080, '\0');
  };
  SmallPhone phone;
  phone.extra["misc"] = misc("_a", 0x8f, 0x0f);
  CHECK_FALSE(finds(phone.check(), "slot-state"));
  CHECK_FINDS(phone.check({.slot = "b"}), "slot-state", "problem");  // no tries left
  phone.extra["misc"] = misc("_a", 0x70, 0x8f);
  CHECK_FINDS(phone.check(), "slot-state", "problem");  // unbootable
  phone.extra["misc"] = misc("_a", 0x8f, 0x8f);
  CHECK_FINDS(phone.check({.slot = "b"}), "slot-state", "warning");
  phone.extra["misc"][2090] = 1;
  phone.extra["misc"][2060] = 1;
  CHECK_FINDS(phone.check(), "slot-state", "warning");
  std::string merging(65536, '\0');
  merging.replace(32768, 6, std::string("\x02") + le32(0x56740AB0) + "\x03");
  phone.extra["misc"] = merging;
  CHECK_FINDS(phone.check(), "merge-pending", "warning");

  SuperBytes super{.partitions = {{"system_a", {{.sectors = 8, .at = 1024}}}}};
  SmallPhone with;
  with.extra["super"] = super.done();
  CHECK_FALSE(finds(with.check(), "super-tables"));
  with.extra["super"][4096 + 40] = static_cast<char>(with.extra["super"][4096 + 40] ^ 1);
  CHECK_FINDS(with.check(), "super-tables", "problem");
  with.extra["super"] = super.done();
  const std::size_t backup = 12288 + 2 * 4096;
  with.extra["super"][backup + 50] = static_cast<char>(with.extra["super"][backup + 50] ^ 1);
  CHECK_FINDS(with.check(), "super-tables", "problem");

  BootBytes root = older(0);
  CpioBytes recovery;
  recovery.folder("sbin").file("sbin/recovery",
                               "\x7f"
                               "ELF",
                               0100750);
  recovery
      .file("init",
            "\x7f"
            "ELF",
            0100750)
      .file("init.rc", "on boot\n");
  root.ramdisk = gzip(recovery.done());
  root.kernel = arm64_kernel("4.9.0") + std::string("\0skip_initramfs\0", 16);
  CHECK_FINDS(judge(root.done()), "ramdisk-unused", "note");
}

TEST_CASE("rules: on an untouched stock image a finding weighs less") {
  // The same oddity, once under a digest that is true, once not.
  BootBytes boot = older(1);
  boot.kernel.clear();
  CHECK_FINDS(judge(boot.done()), "kernel", "warning");
  boot.id = BootBytes::Id::None;
  CHECK_FINDS(judge(boot.done()), "kernel", "problem");
}

TEST_CASE("rules: a merge is told in each state that has one, and in no other") {
  for (const auto& [status, told_of] :
       {std::pair{0, false}, {1, false}, {2, true}, {3, true}, {4, false}}) {
    CAPTURE(status);
    std::string misc(65536, '\0');
    misc.replace(32768, 6, std::string("\x02") + le32(0x56740AB0) + static_cast<char>(status));
    SmallPhone phone;
    phone.extra["misc"] = misc;
    CHECK(finds(phone.check(), "merge-pending") == told_of);
  }
}
