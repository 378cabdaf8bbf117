/// Images as they come packed: nothing is cut short, nothing is taken for the image that is not it,
/// and what does not read is told.

#include "program/bench.hpp"
#include "support/run.hpp"

using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

/// A frame that readers of zstd and lz4 pass over: packers that work in parallel write one before
/// each of theirs.
std::string skippable(const std::string& content, char nibble = '\x0') {
  return std::string(1, static_cast<char>('\x50' + nibble)) + "\x2a\x4d\x18" +
         le32(static_cast<std::uint32_t>(content.size())) + content;
}

std::string image() {
  return with_footer(BootBytes{.kernel = arm64_kernel("5.10.1") + noise(300'000)}.done(), "boot",
                     1u << 19);
}

}  // namespace

TEST_CASE(
    "extract: skippable frames, joined streams and padding are read as the general tools do") {
  const TempDir dir;
  const std::string whole = image(), one = whole.substr(0, 200'000), two = whole.substr(200'000);
  const std::string size = le32(static_cast<std::uint32_t>(zstd(one).size()));
  const std::vector<std::pair<std::string, std::string>> files{
      {"boot.img.zst", skippable(size) + zstd(one) + skippable(size) + zstd(two)},
      {"boot.img.zst", zstd(one) + skippable("x", '\x7') + zstd(two) + skippable("")},
      {"boot.img.zst", skippable("", '\xf') + zstd(whole)},
      {"boot.img.lz4", skippable("abc") + lz4_frame(one) + skippable("d") + lz4_frame(two)},
      {"boot.img.lz4", lz4_frame(one) + lz4_frame(two)},
      {"boot.img.lz4", lz4_legacy(one) + lz4_legacy(two)},
      {"boot.img.gz", gzip(one) + gzip(two)},
      {"boot.img.gz", gzip(whole) + std::string(512, '\0')},
      {"boot.img.xz", xz(one) + xz(two)},
      {"boot.img.xz", xz(one) + std::string(8, '\0') + xz(two)},
      {"boot.img.bz2", bzip2(one) + bzip2(two)},
      {"boot.img.lzma", lzma(whole)},
  };
  std::size_t number = 0;
  for (const auto& [name, bytes] : files) {
    CAPTURE(name);
    CAPTURE(number++);
    write(dir / name, bytes);
    const Json done = program_json(dir, {"extract", name, "-o", "out"});
    CHECK(read(dir / "out/boot.img") == whole);
    CHECK_FALSE(says(done, "warning:not-packed"));
    CHECK_FALSE(says(done, "warning:bytes-behind"));
    fs::remove_all(dir / "out");
    fs::remove(dir / name);
  }
}

TEST_CASE("extract: a packed content that is not recognised is decoded once") {
  const TempDir dir;
  // Content whose first bytes could be taken for an lzma stream's: 5D, and a size.
  const std::string content =
      std::string("\x5d\x00\x00\x80\x00", 5) + std::string(8, '\xff') + noise(5000);
  for (const auto& [name, bytes] : std::vector<std::pair<std::string, std::string>>{
           {"modem.img.lzma", lzma(content)}, {"modem.img.xz", xz(content)}}) {
    CAPTURE(name);
    write(dir / name, bytes);
    CHECK(program_json(dir, {"extract", name, "-o", "out"})["ok"] == true);
    CHECK(read(dir / "out/modem.img") == content);
    fs::remove_all(dir / "out");
  }
}

TEST_CASE("extract: bytes behind a packed stream are told, for every codec") {
  const TempDir dir;
  const std::string whole = image(), more = "what is this doing here";
  for (const auto& [name, bytes] :
       std::vector<std::pair<std::string, std::string>>{{"boot.img.gz", gzip(whole)},
                                                        {"boot.img.xz", xz(whole)},
                                                        {"boot.img.bz2", bzip2(whole)},
                                                        {"boot.img.lz4", lz4_frame(whole)},
                                                        {"boot.img.zst", zstd(whole)},
                                                        {"boot.img.lzma", lzma(whole)}}) {
    CAPTURE(name);
    write(dir / name, bytes + more);
    const Ran ran = program(dir, {"extract", name, "-o", "out", "--json"});
    CAPTURE(ran.out);
    const Json said = Json::parse(ran.out);
    // Told, or refused: never silence.
    if (ran.exit_code == 0) {
      CHECK(says(said, "warning:bytes-behind"));
      CHECK(read(dir / "out/boot.img") == whole);
    } else {
      CHECK(ran.exit_code == 3);
      CHECK_FALSE(fs::exists(dir / "out"));
    }
    fs::remove_all(dir / "out");
  }
}

TEST_CASE(
    "extract: a name that says packed, and bytes that are not: a warning, never silently the "
    "image") {
  const TempDir dir;
  write(dir / "fw/vbmeta.img", vbmeta(property_descriptor("a", "b")));
  for (const char* ending : {"gz", "xz", "lz4", "zst", "bz2", "lzma"}) {
    const std::string name = std::string("modem.img.") + ending;
    CAPTURE(name);
    write(dir / name, noise(9000));
    // Alone it is refused, among others it is told.
    CHECK(program_json(dir, {"extract", name, "-o", "out"}, 3)["error"]["code"] == "bad-magic");
    CHECK_FALSE(fs::exists(dir / "out"));
    fs::rename(dir / name, dir / ("fw/" + name));
    const Json said = program_json(dir, {"extract", "fw", "modem", "-o", "out"});
    CHECK(says(said, "warning:not-packed"));
    CHECK(read(dir / "out/modem.img") == noise(9000));
    fs::remove_all(dir / "out");
    fs::remove(dir / ("fw/" + name));
  }
  // What is recognised otherwise is what it is.
  write(dir / "fw/boot.img.gz", image());
  const Json plain = program_json(dir, {"extract", "fw", "boot", "-o", "out"});
  CHECK_FALSE(says(plain, "warning:not-packed"));
  CHECK(read(dir / "out/boot.img") == image());
}

TEST_CASE("extract: an image that nothing promises a digest of and that does not read is told") {
  const TempDir dir;
  std::string past_end = image();
  past_end.replace(8, 4, le32(0x7000000));
  std::string unknown = BootBytes{.version = 4, .kernel = arm64_kernel("6.1.1")}.done();
  unknown.replace(40, 4, le32(77));
  const std::string broken_vbmeta = vbmeta(property_descriptor("a", "b")).substr(0, 300);
  std::string table = TableBytes{.blobs = {device_tree("x", "y")}}.done();
  for (const auto& [name, bytes] : std::vector<std::pair<std::string, std::string>>{
           {"boot", past_end},
           {"boot", unknown},
           {"boot", image().substr(0, 100'000)},
           {"vbmeta", broken_vbmeta},
           {"dtbo", table.substr(0, table.size() - 40)}}) {
    CAPTURE(name);
    fs::remove_all(dir / "fw");
    write(dir / ("fw/" + name + ".img"), bytes);
    const Json said = program_json(dir, {"extract", "fw", "-o", "out"});
    CHECK(says(said, "warning:damaged-image"));
    // The bytes are the package's all the same.
    CHECK(read(dir / ("out/" + name + ".img")) == bytes);
    fs::remove_all(dir / "out");
  }
  write(dir / "fw/boot.img", image());
  fs::remove(dir / "fw/dtbo.img");
  CHECK_FALSE(says(program_json(dir, {"extract", "fw", "-o", "out"}), "warning:damaged-image"));
}

TEST_CASE("tree/ holds what a kernel ends up with, the list says which copy counts") {
  const TempDir dir;
  const std::string first = CpioBytes{}.entry("init", "first", 0100750, 0, 1).file("a", "1").done();
  const std::string second = CpioBytes{}.entry("init", "second", 0100750, 0, 1).done();
  const auto with = [](const std::string& ramdisk) {
    return BootBytes{.version = 4, .ramdisk = ramdisk}.done();
  };
  const std::string twice = CpioBytes{}
                                .entry("init", "first", 0100750, 0, 1)
                                .entry("init", "second", 0100750, 0, 1)
                                .done();
  for (const std::string& ramdisk :
       {lz4_legacy(first) + lz4_legacy(second), lz4_legacy(first + second), gzip(twice)}) {
    write(dir / "init_boot.img", with(ramdisk));
    REQUIRE(program(dir, {"unpack", "init_boot.img", "-o", "parts", "--force"}).exit_code == 0);
    CHECK(read(dir / "parts/tree/init") == "second");
    // Untouched, it is the same image; edited, it is the copy that counts which changes.
    REQUIRE(program(dir, {"repack", "parts", "-o", "same.img", "--force"}).exit_code == 0);
    CHECK(read(dir / "same.img") == with(ramdisk));
    write(dir / "parts/tree/init", "edited");
    REQUIRE(program(dir, {"repack", "parts", "-o", "new.img", "--force"}).exit_code == 0);
    REQUIRE(program(dir, {"unpack", "new.img", "-o", "again", "--force"}).exit_code == 0);
    CHECK(read(dir / "again/tree/init") == "edited");
    std::string odd;
    for (const std::string& name : files_of(dir / "again"))
      if (name.starts_with("tree.odd/")) odd += read(dir / ("again/" + name));
    CHECK(odd == "first");
  }
}

TEST_CASE("new entries of an archive with sums have sums: GNU cpio takes them") {
  const TempDir dir;
  // As `cpio -H crc` writes it.
  fs::create_directory(dir / "in");
  write(dir / "in/a", "one");
  write(dir / "in/init", elf("arm64", "x"));
  REQUIRE(shell("cd in && printf 'a\\ninit\\n' | cpio -o -H crc --quiet > ../crc.cpio",
                dir.path().string())
              .exit_code == 0);
  write(dir / "init_boot.img",
        BootBytes{.version = 4, .ramdisk = gzip(read(dir / "crc.cpio"))}.done());
  REQUIRE(program(dir, {"unpack", "init_boot.img", "-o", "parts"}).exit_code == 0);
  write(dir / "parts/tree/new", "a new file's content");
  write(dir / "parts/tree/a", "another content");
  REQUIRE(program(dir, {"repack", "parts", "-o", "new.img"}).exit_code == 0);
  REQUIRE(program(dir, {"unpack", "new.img", "-o", "again"}).exit_code == 0);
  const Ran ran = shell(
      "mkdir out && cd out && gzip -dc ../again/ramdisk.bin | cpio -i --quiet -H crc 2>&1; cat new "
      "a",
      dir.path().string());
  CHECK(ran.exit_code == 0);
  CHECK(ran.out == "a new file's contentanother content");
}

TEST_CASE("x86_64 kernels, FAT partitions, tars whose first member has no name, bare tables") {
  const TempDir dir;
  // The boot protocol of an x86 kernel: magic at 0x202, xloadflags at 0x236, bit 0 says 64 bits.
  std::string kernel(0x8000, '\0');
  kernel.replace(0x1fe, 2, "\x55\xaa");
  kernel.replace(0x202, 4, "HdrS");
  kernel[0x206] = '\x0d';
  kernel[0x207] = '\x02';
  kernel[0x236] = '\x01';
  write(dir / "boot.img", BootBytes{.kernel = kernel, .ramdisk = gzip(first_ramdisk())}.done());
  const Json x86 = program_json(dir, {"inspect", "boot.img"})["result"]["items"][0];
  CHECK(x86["image"]["kernel"]["architecture"] == "x86_64");

  for (const auto& [kind, at] : std::vector<std::pair<std::string, std::size_t>>{
           {"FAT12   ", 54}, {"FAT16   ", 54}, {"FAT32   ", 82}}) {
    std::string fat(1u << 20, '\0');
    fat.replace(0, 3, "\xeb\x3c\x90");
    fat.replace(11, 2, std::string("\x00\x02", 2));
    fat[13] = 4;
    fat[14] = 1;
    fat[16] = 2;
    fat[21] = '\xf8';
    fat.replace(at, 8, kind);
    fat.replace(510, 2, "\x55\xaa");
    write(dir / "modem.img", fat);
    const Json told = program_json(dir, {"inspect", "modem.img"})["result"]["items"][0];
    CAPTURE(told.dump());
    CHECK(told["kind"] == "fat");
  }

  const std::string unnamed = tar_member("", std::string(3000, 'x')) +
                              tar_member("boot.img", image()) + std::string(1024, '\0');
  write(dir / "odd.tar", unnamed);
  CHECK(program(dir, {"extract", "odd.tar", "boot", "-o", "out"}).exit_code == 0);
  CHECK(read(dir / "out/boot.img") == image());

  write(dir / "dtbo.img", TableBytes{.blobs = {device_tree("x", "y")}}.done());
  write(dir / "r.toml",
        "format = 1\nname = \"t\"\n[[edit]]\nkind = \"dt-property\"\npartition = \"dtbo\"\ntree = "
        "\"\"\nnode = \"/\"\nproperty = \"model\"\ntext = \"z\"\n");
  const Ran ran = program(dir, {"patch", "dtbo.img", "-r", "r.toml", "-o", "new.img"});
  CHECK_MESSAGE(ran.exit_code == 0, ran.err);
}

TEST_CASE("restore --stock: an image without a ramdisk, and one whose journal is gone") {
  const TempDir dir;
  const std::string stock = image();
  write(dir / "stock.img", stock);
  // Another tool changed the command line: there is nothing in it that says so.
  std::string changed = stock;
  changed.replace(64, 5, "quiet");
  write(dir / "changed.img", changed);
  const Json done =
      program_json(dir, {"restore", "changed.img", "--stock", "stock.img", "-o", "back.img"});
  CHECK(read(dir / "back.img") == stock);
  CHECK(done["result"]["from"] == "stock-copy");
}

TEST_CASE("check and inspect look at an image that has its own footer and hash tree") {
  const TempDir dir;
  write(dir / "system.img", file_system(2 * kMiB, "ro.build.fingerprint=x\n"));
  REQUIRE(
      program(dir, {"seal", "system=system.img", "--partition-size", "system=3M", "-o", "sealed"})
          .exit_code == 0);
  fs::create_directory(dir / "alone");
  fs::copy_file(dir / "sealed/system.img", dir / "alone/system.img");
  const Json good = program_json(dir, {"check", "alone/system.img"});
  CHECK(good.dump().find("nothing here is under verified boot") == std::string::npos);
  REQUIRE(good["result"]["partitions"].size() == 1);
  CHECK(good["result"]["partitions"][0]["detail"].get<std::string>().find("tree") !=
        std::string::npos);
  const Json told = program_json(dir, {"inspect", "alone/system.img"})["result"]["items"][0];
  REQUIRE(told.contains("footer"));
  CAPTURE(told["footer"].dump());
  CHECK(told["footer"].dump().find("system") != std::string::npos);
  std::string bytes = read(dir / "alone/system.img");
  bytes[1u << 20] = static_cast<char>(~bytes[1u << 20]);
  write(dir / "alone/system.img", bytes);
  const Ran bad = program(dir, {"check", "alone/system.img", "--json"});
  CHECK(bad.exit_code == 1);
  CHECK(says(Json::parse(bad.out), "problem:system-digest"));
}
