/// inspect, compare, unpack and repack of images of all kinds, as users call them.

#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

std::string old_boot() {
  BootBytes b{.version = 2,
              .page = 2048,
              .kernel = gzip(arm64_kernel("6.1.9-korvale", "CONFIG_X=y\n")) +
                        device_tree("Korvale Tarn 2", "korvale,vernier"),
              .ramdisk = lz4_legacy(first_ramdisk(), true),
              .dtb = device_tree("Korvale Tarn 2", "korvale,vernier")};
  b.cmdline = std::string(520, 'c') + " androidboot.selinux=permissive";
  return b.done();
}

}  // namespace

TEST_CASE("inspect: an older boot image with kernel, device trees and a long command line") {
  const TempDir dir;
  write(dir / "boot.img", sealed(old_boot()) + "SEANDROIDENFORCE");
  const Json document = program_json(dir, {"inspect", "boot.img"});
  const Json& image = document["result"]["items"][0]["image"];
  CHECK(document["result"]["items"][0]["layers"][0]["kind"] == "prefix");
  CHECK(image["header_version"] == 2);
  CHECK(image["page_size"] == 2048);
  CHECK(image["cmdline"] == std::string(520, 'c') + " androidboot.selinux=permissive");
  CHECK(image["id_matches"] == true);
  CHECK(image["kernel"]["release"] == "6.1.9-korvale");
  CHECK(image["kernel"]["compression"] == "gzip");
  CHECK(image["parts"][0]["offset"] == 512 + 2048);
  CHECK(image["parts"][1]["compression"] == "lz4-legacy");
  REQUIRE(image["device_trees"].size() == 2);
  CHECK(image["device_trees"][0]["part"] == "kernel");
  CHECK(image["device_trees"][1]["compatible"][0] == "korvale,vernier");
  CHECK(image["prefix"]["true"] == true);
  CHECK(image["tail"][0]["kind"] == "enforcing trailer");
  CHECK(image["starts"]["normal"][0]["partition"] == "boot");
  CHECK(document["findings"][0]["code"] == "selinux-permissive");
  const Ran text = program(dir, {"inspect", "boot.img"});
  for (const char* word :
       {"Linux version 6.1.9-korvale", "Korvale Tarn 2", "permissive", "dhtb", "enforcing trailer"})
    CHECK(text.out.find(word) != std::string::npos);
}

TEST_CASE("inspect --verbose: names the encoder's setting and how far it was tried") {
  const TempDir dir;
  write(dir / "boot.img", BootBytes{.ramdisk = gzip(first_ramdisk(), 9)}.done());
  const Json image =
      program_json(dir, {"inspect", "--verbose", "boot.img"})["result"]["items"][0]["image"];
  CHECK(image["ramdisks"][0]["encoder"][0] == "level 9, memory 8");
  CHECK(image["ramdisks"][0]["encoder_proof"][0] == "whole");
}

TEST_CASE("inspect: fragments, and what a kernel would see") {
  const TempDir dir;
  VendorBootBytes v{.bootconfig = "androidboot.selinux = permissive\n"};
  v.named = {{"", 1, gzip(first_ramdisk())}, {"recovery", 2, gzip(first_ramdisk())}};
  write(dir / "vendor_boot.img", v.done());
  const Json image =
      program_json(dir, {"inspect", "vendor_boot.img"})["result"]["items"][0]["image"];
  CHECK(image["ramdisks"].size() == 2);
  CHECK(image["ramdisks"][1]["type"] == "recovery");
  CHECK(image["starts"]["normal"].size() == 2);
  CHECK(image["starts"]["recovery"].size() == 3);
  CHECK(image["selinux_permissive"][0]["where"] == "bootconfig");
}

TEST_CASE("compare: exit 0 for the same, 1 with what differs") {
  const TempDir dir;
  const std::string stock = BootBytes{.ramdisk = gzip(first_ramdisk())}.done();
  write(dir / "a.img", stock);
  write(dir / "b.img", stock);
  const Ran same = program(dir, {"compare", "a.img", "b.img"});
  CHECK(same.exit_code == 0);
  CHECK(same.out.find("the same, byte for byte") != std::string::npos);
  CHECK(program(dir, {"unpack", "a.img", "-o", "parts"}).exit_code == 0);
  CHECK(program(dir, {"compare", "a.img", "parts"}).exit_code == 0);
  write(dir / "parts/tree/system/etc/build.prop", "ro.debuggable=1\nro.korvale=1\n");
  const Ran differs = program(dir, {"compare", "a.img", "parts", "--json"});
  CHECK(differs.exit_code == 1);
  const Json document = Json::parse(differs.out);
  CHECK(document["ok"] == false);
  const Json& result = document["result"];
  CHECK(result["same"] == false);
  CHECK(result["images"][0]["differences"][1]["where"] == "/system/etc/build.prop");
  CHECK(result["images"][0]["differences"][1]["lines"][1] == "-ro.debuggable=0");
  CHECK(result["images"][0]["ranges"].size() >= 2);
  const Ran text = program(dir, {"compare", "a.img", "parts"});
  CHECK(text.out.find("+ro.debuggable=1") != std::string::npos);
  CHECK(program(dir, {"compare", "a.img", "none.img"}).exit_code == 5);
}

TEST_CASE("repack: tells every edit in one table, also without writing") {
  const TempDir dir;
  write(dir / "boot.img", BootBytes{.kernel = noise(100), .ramdisk = gzip(first_ramdisk())}.done());
  REQUIRE(program(dir, {"unpack", "boot.img", "-o", "parts"}).exit_code == 0);
  fs::rename(dir / "parts/tree/fstab.vernier", dir / "parts/tree/fstab.other");
  fs::remove(dir / "parts/tree/system/etc/build.prop");
  fs::permissions(dir / "parts/tree/init", static_cast<fs::perms>(0755));
  write(dir / "parts/tree/sbin/tool", "new");
  const Ran dry = program(dir, {"repack", "parts", "--dry-run"});
  CHECK(dry.exit_code == 0);
  for (const char* line : {"renamed  fstab.vernier", "removed  system/etc/build.prop",
                           "mode     init", "added    sbin/tool", "dry run: nothing was written"})
    CHECK(dry.out.find(line) != std::string::npos);
  CHECK(program(dir, {"repack", "parts"}).exit_code == 2);
  const Json done = program_json(dir, {"repack", "parts", "-o", "out.img"});
  CHECK(done["result"]["changes"].size() == 5);
  CHECK(done["result"]["sha256"] == hex_of(sha256(read(dir / "out.img"))));
  // The table stands there even when the image cannot be written.
  const Ran failed = program(dir, {"repack", "parts", "-o", "parts/parts.toml/out.img"});
  CHECK(failed.exit_code == 5);
  CHECK(failed.out.find("renamed") != std::string::npos);
}

TEST_CASE("bombs: refused with exit 3 and a way out, which is --limit") {
  const TempDir dir;
  const std::string bomb = zstd(CpioBytes{}.file("zeros", std::string(100u << 20, '\0')).done());
  write(dir / "boot.img", BootBytes{.ramdisk = bomb}.done());
  const Ran refused = program(dir, {"unpack", "boot.img", "-o", "parts"});
  CHECK(refused.exit_code == 3);
  CHECK(refused.err.find("--limit") != std::string::npos);
  CHECK_FALSE(fs::exists(dir / "parts"));
  CHECK(program(dir, {"--limit", "200M", "unpack", "boot.img", "-o", "parts"}).exit_code == 0);
}

TEST_CASE("judges: what general tools make of repacked ramdisks") {
  const std::pair<const char*, std::string> forms[] = {
      {"gzip -dc", gzip(first_ramdisk())},
      {"lz4 -dc", lz4_legacy(first_ramdisk())},
      {"lz4 -dc", lz4_frame(first_ramdisk())},
      {"xz -dc", xz(first_ramdisk())},
      {"xz --format=lzma -dc", lzma(first_ramdisk())},
      {"bzip2 -dc", bzip2(first_ramdisk())},
      {"zstd -dc", zstd(first_ramdisk())},
      {"cat", first_ramdisk()},
  };
  for (const auto& [tool, packed] : forms) {
    CAPTURE(tool);
    const TempDir dir;
    write(dir / "boot.img", BootBytes{.ramdisk = packed}.done());
    REQUIRE(program(dir, {"unpack", "boot.img", "-o", "parts"}).exit_code == 0);
    write(dir / "parts/tree/new", "judged");
    REQUIRE(program(dir, {"repack", "parts", "-o", "out.img"}).exit_code == 0);
    REQUIRE(program(dir, {"unpack", "out.img", "-o", "again"}).exit_code == 0);
    const Ran listed =
        shell(std::string(tool) + " again/ramdisk.bin | cpio -it --quiet", dir.path().string());
    CHECK(listed.exit_code == 0);
    CHECK(listed.out.find("new\n") != std::string::npos);
    CHECK(listed.out.find("system/etc/build.prop\n") != std::string::npos);
  }
}

TEST_CASE("judges: file and dtc know what unpack wrote") {
  const TempDir dir;
  write(dir / "boot.img", old_boot());
  REQUIRE(program(dir, {"unpack", "boot.img", "-o", "parts"}).exit_code == 0);
  const std::string types = shell("file parts/*", dir.path().string()).out;
  CHECK(types.find("dtb-tree-0.dtb: ") != std::string::npos);
  CHECK(types.find("Device Tree Blob") != std::string::npos);
  CHECK(types.find("gzip compressed data") != std::string::npos);
  CHECK(types.find("LZ4 compressed data (v0.1-v0.9)") != std::string::npos);
  CHECK(shell("dtc -I dtb -O dts parts/kernel-tree-0.dtb", dir.path().string())
            .out.find("korvale,vernier") != std::string::npos);
}

TEST_CASE("hostile images: exit 3 or 4 with field and offset, nothing written") {
  const std::string stock = old_boot();
  const auto put = [&](std::size_t at, std::uint32_t value) {
    std::string bytes = stock;
    return bytes.replace(at, 4, le32(value));
  };
  VendorBootBytes v;
  v.named = {{"a", 1, gzip(first_ramdisk())}, {"b", 1, gzip(first_ramdisk())}};
  std::string overlapping = v.done();
  const std::size_t table = overlapping.find(std::string("a") + std::string(31, '\0')) - 12;
  overlapping.replace(table + 108 + 4, 4, le32(1));
  const std::string cases[] = {
      put(8, 0xffffffff),   // kernel_size
      put(16, 0x7fffffff),  // ramdisk_size
      put(36, 0),           // page_size
      put(36, 3000),
      put(40, 5),  // header_version
      put(40, 255),
      put(1632, 0xfffffff0),  // recovery_dtbo_size
      put(1648, 0x40000000),  // dtb_size
      stock.substr(0, 1000),
      overlapping,
      be32(0xd7b7ab1e) + std::string(28, '\xff'),
      BootBytes{.ramdisk = gzip(
                    CpioBytes{}.entry("x", "y", 0100644, 1, 1).raw().replace(94, 8, "ffffffff"))}
          .done(),
  };
  for (const std::string& bytes : cases) {
    const TempDir dir;
    write(dir / "x.img", bytes);
    const Ran ran = program(dir, {"unpack", "x.img", "-o", "parts", "--json"});
    CAPTURE(ran.out);
    CHECK((ran.exit_code == 3 || ran.exit_code == 4));
    const Json error = Json::parse(ran.out)["error"];
    CHECK(error["file"] == "x.img");
    CHECK(error.contains("offset"));
    CHECK(dir.names() == std::vector<std::string>{"x.img"});
  }
}
