#include "parts/parts.hpp"

#include "base/digest.hpp"
#include "core/parts_bench.hpp"
#include "image/boot.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

using Bench = PartsBench;

std::string boot_with(const std::string& ramdisk) {
  return BootBytes{.kernel = noise(5000), .ramdisk = ramdisk}.done();
}

std::string has(const parts::Repacked& repacked) {
  return told(repacked);
}

}  // namespace

TEST_CASE("parts: unpack and repack give the same bytes, for every kind of image") {
  const std::string ramdisk = first_ramdisk();
  BootBytes v2{.version = 2, .page = 2048, .kernel = noise(9000), .ramdisk = test::gzip(ramdisk)};
  v2.dtb = noise(500);
  v2.second = noise(10);
  BootBytes headless{.version = 0, .kernel = noise(100), .ramdisk = ""};
  VendorBootBytes vendor{
      .ramdisk = test::lz4_legacy(ramdisk), .dtb = noise(700), .bootconfig = "androidboot.x=1\n"};
  VendorBootBytes two = vendor;
  two.ramdisk.clear();
  two.named = {{"", 1, test::lz4_legacy(ramdisk)}, {"recovery", 2, test::lz4_legacy(ramdisk)}};
  const std::string last_unpadded = boot_with(ramdisk).substr(0, 4096 + 8192 + ramdisk.size());
  const std::string images[] = {
      boot_with(ramdisk),
      boot_with(test::lz4_legacy(ramdisk, true)) + noise(99),
      last_unpadded,
      v2.done() + std::string(3000, '\xff'),
      headless.done(),
      vendor.done(),
      two.done(),
      with_footer(boot_with(test::gzip(ramdisk)), "boot", 1u << 17),
      vbmeta(test::property_descriptor("a", "b"), 0, 1) + std::string(1000, '\0'),
      "\x3a\xff\x26\xed" + noise(5000),  // kept whole
  };
  for (const std::string& image : images) {
    const Bench bench(image);
    const auto repacked = bench.repack();
    CHECK(repacked.changes.empty());
    check_same(repacked.bytes, as_view(image));
  }
}

TEST_CASE("parts: odd names, links, devices, doubles and order survive the folder") {
  const std::string odd = CpioBytes{}
                              .folder(".")
                              .folder("Dir")
                              .folder("dir")
                              .file("Dir/File", "1")
                              .file("dir/file", "2")
                              .file("DIR/file", "3")
                              .file("same", "first")
                              .file("same", "second")
                              .file("with blank", "4")
                              .file("new\nline", "5")
                              .file("\xff\xfe", "6")
                              .file("/absolute", "7")
                              .file("./dotted", "8")
                              .file("a:b?c*", "9")
                              .file(std::string(300, 'n'), "10")
                              .folder(std::string(300, 'd'))
                              .file("thing", "file first")
                              .folder("thing")
                              .file("thing/x", "below")
                              .link("loop", "loop")
                              .link("empty-target", "")
                              .device("dev/ttyKV0", 204, 64)
                              .entry("h1", "", 0100644, 900, 2)
                              .entry("h2", "data", 0100644, 900, 2)
                              .entry("fifo", "", 0010600, 0, 1)
                              .entry("sock", "", 0140777, 0, 1)
                              .entry("odd-type", "", 0170600, 0, 1)
                              .entry("suid", "s", 0104755, 0, 1, 12345, 54321, 0x7fffffff)
                              .done();
  const Bench bench(boot_with(test::gzip(odd)));
  const auto repacked = bench.repack();
  CHECK(has(repacked) == "");
  check_same(repacked.bytes, as_view(bench.stock));
  CHECK(test::read(bench / "tree/absolute") == "7");
  CHECK(test::read(bench / "tree/dotted") == "8");
  CHECK(test::read(bench / "tree/with blank") == "4");
}

TEST_CASE("parts: no link is ever made, and nothing lands outside the folder") {
  const Bench bench(boot_with(first_ramdisk()));
  for (const auto& entry : fs::recursive_directory_iterator(bench.folder()))
    CHECK_FALSE(entry.is_symlink());
  CHECK_FALSE(fs::exists(bench / "tree/etc"));
  for (const std::string& evil :
       {CpioBytes{}.file("../../escaped", "x").done(),
        CpioBytes{}.link("etc", "/tmp").file("etc/escaped", "x").done()}) {
    const TempDir dir;
    const auto loaded = load_image(blob(boot_with(evil)), "evil.img");
    const auto refused = parts::unpack(*loaded, dir / "in/parts", Overwrite::Refuse);
    REQUIRE_FALSE(refused);
    CHECK(dir.names().empty());
    fs::create_directory(dir / "in");
    const auto unsafe = parts::unpack(*loaded, dir / "in/parts", Overwrite::Refuse);
    CHECK(unsafe.error().code == ErrorCode::UnsafePath);
    CHECK(dir.names() == std::vector<std::string>{"in"});
    CHECK_FALSE(fs::exists("/tmp/escaped"));
  }
}

TEST_CASE("parts: an edited file changes that entry alone") {
  const Bench bench(boot_with(test::gzip(first_ramdisk())));
  test::write(bench / "tree/system/etc/build.prop", "ro.debuggable=1\n");
  const auto repacked = bench.repack();
  CHECK(has(repacked) == "ramdisk content system/etc/build.prop\n");
  const Ramdisk before = *parse_ramdisk(blob(test::gzip(first_ramdisk()))), after = bench.ramdisk();
  const auto& old = before.segments[0].archive.entries;
  const auto& now = after.segments[0].archive.entries;
  REQUIRE(old.size() == now.size());
  for (std::size_t i = 0; i < old.size(); ++i) {
    CHECK(old[i].name() == now[i].name());
    CHECK(old[i].get(newc::Field::Ino) == now[i].get(newc::Field::Ino));
    if (old[i].name() != "system/etc/build.prop")
      CHECK(text(old[i].data().view()) == text(now[i].data().view()));
  }
}

TEST_CASE("parts: files added and removed in the tree, lines changed in the list") {
  const Bench bench(boot_with(first_ramdisk()));
  test::write(bench / "tree/new/deep/file", "fresh");
  fs::permissions(bench / "tree/new/deep/file", fs::perms::owner_all);
  fs::create_symlink("/new/deep", bench / "tree/short");
  fs::remove(bench / "tree/fstab.vernier");
  bench.edit("tree.list", "f 0750 0 2000 1230768000 - init", "f 0755 7 2000 1230768000 - init");
  const auto repacked = bench.repack();
  CHECK(has(repacked) ==
        "ramdisk removed fstab.vernier\nramdisk attributes init\nramdisk added new\n"
        "ramdisk added new/deep\nramdisk added new/deep/file\nramdisk added short\n");
  const Ramdisk after = bench.ramdisk();
  CHECK_FALSE(find_entry(after, "fstab.vernier"));
  const auto& init = entry_at(after, *find_entry(after, "init"));
  CHECK(init.mode() == 0100755);
  CHECK(init.get(newc::Field::Uid) == 7);
  CHECK(entry_at(after, *find_entry(after, "new/deep/file")).mode() == 0100755);
  CHECK(text(entry_at(after, *find_entry(after, "short")).data().view()) == "/new/deep");
  CHECK(test::text(bench.repack().bytes) == test::text(repacked.bytes));  // the same each time
}

TEST_CASE("parts: a hard link that is removed leaves its data to the others") {
  const Bench bench(boot_with(CpioBytes{}
                                  .entry("a", "", 0100644, 9, 3)
                                  .entry("b", "", 0100644, 9, 3)
                                  .entry("c", "shared", 0100644, 9, 3)
                                  .done()));
  std::filesystem::remove(bench / "tree/c");
  const Ramdisk after = bench.ramdisk();
  CHECK_FALSE(find_entry(after, "c"));
  for (const char* name : {"a", "b"}) {
    CHECK(text(content_of(after, *find_entry(after, name)).view()) == "shared");
    CHECK(entry_at(after, *find_entry(after, name)).get(newc::Field::Nlink) == 2);
  }
}

TEST_CASE("parts: a line taken out of the list removes the entry, one put in adds it") {
  const Bench bench(boot_with(first_ramdisk()));
  bench.edit("tree.list", "d 0755 0 0 0 - dev\n", "");
  bench.edit("tree.list", "end\n", "c 0666 0 0 0 1:3 dev/null\nend\n");
  CHECK(has(bench.repack()) == "ramdisk removed dev\nramdisk added dev/null\n");
  bench.edit("tree.list", "c 0666", "c 99999");
  const auto bad = parts::repack(bench.folder());
  REQUIRE_FALSE(bad);
  CHECK(bad.error().message.find("line ") != std::string::npos);
}

TEST_CASE("parts: header values are set from parts.toml, and sizes follow the parts") {
  const Bench bench(BootBytes{.version = 2,
                              .page = 2048,
                              .kernel = noise(9000),
                              .ramdisk = first_ramdisk(),
                              .dtb = noise(10)}
                        .done());
  bench.edit("parts.toml", "cmdline = \"console=ttyKV0\"", "cmdline = \"quiet\"");
  bench.edit("parts.toml", "os_version = \"16.0.0\"", "os_version = \"17.1.2\"");
  bench.edit("parts.toml", "kernel_addr = 0x10008000", "kernel_addr = 0x20008000");
  test::write(bench / "kernel.bin", noise(20000, 3));
  const auto repacked = bench.repack();
  const auto image = *boot::parse_boot(Blob(repacked.bytes));
  CHECK(boot::cmdline(image) == "quiet");
  CHECK(boot::os_version(image).version == "17.1.2");
  CHECK(boot::os_version(image).patch_level == "2020-10");
  CHECK(image.number("kernel_addr") == 0x20008000);
  CHECK(image.number("kernel_size") == 20000);
  CHECK(boot::id_matches(image) == true);  // the stock one was true
  CHECK(has(repacked) ==
        "header field cmdline\nheader field kernel_addr\nheader field os_version\n"
        "kernel content \n");
}

TEST_CASE("parts: mistakes in the folder are told by file and line") {
  const auto broken = [](const std::string& from, const std::string& to) {
    const Bench bench(boot_with(first_ramdisk()));
    bench.edit("parts.toml", from, to);
    const auto repacked = parts::repack(bench.folder());
    REQUIRE_FALSE(repacked);
    return repacked.error();
  };
  CHECK(broken("format = 1", "format = 2").code == ErrorCode::Unsupported);
  CHECK(broken("format = 1", "format = ").message.find("line 2") != std::string::npos);
  CHECK(broken("file = \"kernel.bin\"", "file = \"../kernel.bin\"").code == ErrorCode::BadValue);
  CHECK(broken("file = \"kernel.bin\"", "file = \"gone.bin\"").code == ErrorCode::NotFound);
  CHECK(broken("cmdline = \"", "kernel_size = 5\ncmdline = \"").message.find("kernel_size") !=
        std::string::npos);
  CHECK(broken("os_version = \"16.0.0\"", "os_version = \"sixteen\"").code == ErrorCode::BadValue);
  const TempDir dir;
  CHECK(parts::repack(dir.path()).error().code == ErrorCode::BadMagic);
  CHECK(parts::repack(dir / "none").error().code == ErrorCode::NotFound);
}

TEST_CASE("parts: stored originals that were tampered with are noticed") {
  const Bench bench(boot_with(first_ramdisk()));
  test::write(bench / "ramdisk.bin", "something");
  CHECK(parts::repack(bench.folder()).error().code == ErrorCode::DigestMismatch);
  const Bench other(boot_with(first_ramdisk()));
  std::string header = test::read(other / "header.bin");
  header[100] = 'x';
  test::write(other / "header.bin", header);
  CHECK(parts::repack(other.folder()).error().code == ErrorCode::DigestMismatch);
}

TEST_CASE("parts: a footer is rebuilt around an edited ramdisk") {
  const Bench bench(with_footer(boot_with(test::gzip(first_ramdisk())), "boot", 1u << 17));
  test::write(bench / "tree/added", noise(5000));
  const auto repacked = bench.repack();
  CHECK(repacked.bytes.size() == 1u << 17);
  const auto image = load_image(Blob(repacked.bytes), "again");
  REQUIRE(image);
  test::write(bench / "tree/huge", noise(200000));
  CHECK(parts::repack(bench.folder()).error().code == ErrorCode::DoesNotFit);
}
