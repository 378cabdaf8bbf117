/// Parts folders of images with several ramdisks, device trees and kernels to read.

#include <algorithm>

#include "base/digest.hpp"
#include "core/parts_bench.hpp"
#include "image/boot.hpp"
#include "image/device_tree.hpp"
#include "image/fragments.hpp"
#include "parts/tree_list.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;
namespace fs = std::filesystem;

namespace {

const std::string kTree = device_tree("Korvale Tarn 3", "korvale,gnomon");
const std::string kOther = device_tree("Korvale Tarn 3 changed", "korvale,gnomon");

VendorBootBytes fragments() {
  VendorBootBytes v{.dtb = kTree + kTree, .bootconfig = "androidboot.hardware=vernier\n"};
  v.named = {{"", 1, test::lz4_legacy(first_ramdisk())},
             {"recovery", 2, test::gzip(first_ramdisk())},
             {"odd/name", 3, CpioBytes{}.file("lib/modules.load", "a.ko\n").done()}};
  return v;
}

std::string content(const Blob& bytes, const std::string& place) {
  const auto ramdisk = parse_ramdisk(bytes);
  REQUIRE(ramdisk);
  const auto at = find_entry(*ramdisk, place);
  return at ? text(content_of(*ramdisk, *at)) : "(gone)";
}

Image again(const PartsBench& bench) {
  auto image = load_image(bench.repack().bytes, "again");
  REQUIRE(image);
  return std::move(*image->image);
}

}  // namespace

TEST_CASE("parts: each vendor fragment is a tree of its own, and is edited alone") {
  const PartsBench bench(fragments().done());
  CHECK(fs::exists(bench / "tree/init"));
  CHECK(fs::exists(bench / "tree.recovery/init"));
  CHECK(fs::exists(bench / "tree.odd_name/lib/modules.load"));
  CHECK(read(bench / "bootconfig.txt") == "androidboot.hardware=vernier\n");
  CHECK(bench.repack().changes.empty());
  check_same(bench.repack().bytes, as_view(bench.stock));
  write(bench / "tree.recovery/prop", "new");
  const auto repacked = bench.repack();
  CHECK(told(repacked) == "vendor_ramdisk.recovery added prop\n");
  const auto parts = boot::ramdisk_parts(again(bench));
  REQUIRE(parts.size() == 3);
  CHECK(text(parts[0].bytes) == test::lz4_legacy(first_ramdisk()));
  CHECK(content(parts[1].bytes, "prop") == "new");
  CHECK(content(parts[2].bytes, "lib/modules.load") == "a.ko\n");
}

TEST_CASE("parts: a fragment's name, type and board id, and the bootconfig, are edited as text") {
  const PartsBench bench(fragments().done());
  bench.edit("parts.toml", "name = \"recovery\"\ntype = \"recovery\"\nboard_id = []",
             "name = \"rescue\"\ntype = \"platform\"\nboard_id = [1, 2]");
  write(bench / "bootconfig.txt", "androidboot.hardware=other\nandroidboot.x=1\n");
  const auto repacked = bench.repack();
  CHECK(told(repacked) ==
        "bootconfig content \nvendor_ramdisk_table fragment vendor_ramdisk.recovery\n");
  const Image image = again(bench);
  const auto part = boot::ramdisk_parts(image)[1];
  CHECK(part.name == "rescue");
  CHECK(part.type == 1);
  CHECK(part.board_id[1] == 2);
  CHECK(text(image.section("bootconfig")->bytes) ==
        "androidboot.hardware=other\nandroidboot.x=1\n");
  bench.edit("parts.toml", "type = \"platform\"\nboard_id = [1, 2]",
             "type = \"huh\"\nboard_id = []");
  CHECK(parts::repack(bench.folder()).error().code == ErrorCode::BadValue);
}

TEST_CASE("parts: device trees are files by their number; one or the part as a whole is edited") {
  const std::string kernel = test::gzip(arm64_kernel("6.1.9-korvale", "CONFIG_X=y\n"));
  const BootBytes b{.version = 2,
                    .page = 2048,
                    .kernel = kernel + kTree + kTree,
                    .ramdisk = test::gzip(first_ramdisk()),
                    .dtb = TableBytes{.blobs = {kTree}}.done()};
  const PartsBench bench(b.done());
  CHECK(read(bench / "kernel.config") == "CONFIG_X=y\n");
  CHECK(read(bench / "kernel-tree-1.dtb") == kTree);
  CHECK(read(bench / "dtb-tree-0.dtb") == kTree);
  CHECK(read(bench / "parts.toml").find("banner = \"Linux version 6.1.9-korvale") !=
        std::string::npos);
  write(bench / "kernel-tree-1.dtb", kOther);
  write(bench / "dtb-tree-0.dtb", kOther);
  CHECK(told(bench.repack()) ==
        "kernel device tree kernel-tree-1.dtb\ndtb device tree dtb-tree-0.dtb\n");
  const Image image = again(bench);
  const std::string out = text(image.section("kernel")->bytes);
  CHECK(out.starts_with(kernel + kTree));
  CHECK(dt::facts_of(as_view(out).subspan(kernel.size() + kTree.size())).model ==
        "Korvale Tarn 3 changed");
  CHECK(dt::blobs(image.section("dtb")->bytes)[0].facts.model == "Korvale Tarn 3 changed");
  CHECK(boot::id_matches(image) == true);
  write(bench / "kernel.bin", noise(100));
  CHECK(parts::repack(bench.folder()).error().code == ErrorCode::DigestMismatch);
}

TEST_CASE("parts: a dtbo image with its footer: identity, and an edited tree") {
  const std::string stock = with_footer(
      TableBytes{.blobs = {kTree, kTree + "\0\0\0\0", kOther}}.done(), "dtbo", 1u << 16);
  const PartsBench bench(stock);
  check_same(bench.repack().bytes, as_view(stock));
  write(bench / "entries-tree-2.dtb", device_tree("Korvale Tarn 9", "korvale,nine"));
  const auto out = bench.repack().bytes;
  CHECK(out.size() == stock.size());
  const auto image = load_image(out, "dtbo");
  REQUIRE(image);
  CHECK(dt::blobs(dt::whole_table(*image->image))[2].facts.model == "Korvale Tarn 9");
}

TEST_CASE("parts: a bare chain of device trees, replaced as a whole or one by one") {
  const PartsBench bench(kTree + kTree + std::string(4096, '\0'));
  write(bench / "dtb-tree-1.dtb", kOther);
  CHECK(dt::facts_of(as_view(text(bench.repack().bytes)).subspan(kTree.size())).model ==
        "Korvale Tarn 3 changed");
  write(bench / "dtb-tree-1.dtb", kTree);
  write(bench / "dtb.bin", kOther);
  const auto whole = bench.repack();
  CHECK(told(whole) == "dtb content \n");
  CHECK(text(whole.bytes).starts_with(kOther));
  CHECK(whole.bytes.size() == bench.stock.size());
}

TEST_CASE("parts: renamed files keep owner, mode, time and, in the same folder, their place") {
  const PartsBench bench(BootBytes{.ramdisk = test::gzip(first_ramdisk())}.done());
  fs::rename(bench / "tree/fstab.vernier", bench / "tree/fstab.other");
  fs::rename(bench / "tree/init", bench / "tree/system/init");
  const auto repacked = bench.repack();
  CHECK(told(repacked) == "ramdisk renamed fstab.vernier\nramdisk renamed init\n");
  const Ramdisk ramdisk = bench.ramdisk();
  const auto moved = find_entry(ramdisk, "system/init");
  REQUIRE(moved);
  CHECK((entry_at(ramdisk, *moved).mode() & 07777u) == 0750);
  CHECK(entry_at(ramdisk, *moved).get(newc::Field::Gid) == 2000);
  const Ramdisk stock = *parse_ramdisk(blob(test::gzip(first_ramdisk())));
  CHECK(find_entry(ramdisk, "fstab.other")->index + 1 == find_entry(stock, "fstab.vernier")->index);
}

TEST_CASE("parts: a mode changed on the disk is picked up; a copy or an editor's new file is not") {
  const PartsBench bench(BootBytes{.ramdisk = test::gzip(first_ramdisk())}.done());
  const auto mode = [&](const std::string& file, unsigned bits) {
    fs::permissions(bench / ("tree/" + file), static_cast<fs::perms>(bits));
  };
  mode("fstab.vernier", 0700);
  CHECK(told(bench.repack()) == "ramdisk mode fstab.vernier\n");
  const Ramdisk ramdisk = bench.ramdisk();
  CHECK((entry_at(ramdisk, *find_entry(ramdisk, "fstab.vernier")).mode() & 07777u) == 0700);
  mode("fstab.vernier", 0644);
  // An editor that writes a new file leaves the usual bits: the mode stays 0750.
  write(bench / "tree/init", "edited");
  mode("init", 0644);
  CHECK(told(bench.repack()) == "ramdisk content init\n");
  // Where all have other bits than they were given, the file system keeps none.
  mode("init", 0777);
  mode("fstab.vernier", 0777);
  mode("system/etc/build.prop", 0777);
  for (const char* folder : {"dev", "system", "system/etc"})
    mode(folder, 0777);
  const auto repacked = bench.repack();
  CHECK(told(repacked) == "ramdisk content init\n");
  CHECK(repacked.notes.size() >= 1);
}

TEST_CASE("parts: the encoder's setting is written down and used") {
  const std::string archive = CpioBytes{}.file("big", noise(2000) + std::string(90000, 'x')).done();
  const PartsBench bench(BootBytes{.ramdisk = test::gzip(archive, 4)}.done());
  CHECK(read(bench / "parts.toml").find("encoder = [\"level 4, memory 8\"]") != std::string::npos);
  CHECK(read(bench / "parts.toml").find("encoder_proof = [\"whole\"]") != std::string::npos);
  write(bench / "tree/big", noise(2000) + std::string(90001, 'x'));
  const auto image = load_image(bench.repack().bytes, "again");
  const std::string packed = text(image->image->section("ramdisk")->bytes);
  const std::string now = text(decode(Compression::Gzip, as_view(packed))->bytes);
  CHECK(now.size() > 92000);
  CHECK(packed == test::gzip(now, 4));
  bench.edit("parts.toml", "level 4, memory 8", "level four");
  CHECK(parts::repack(bench.folder()).error().code == ErrorCode::BadValue);
}

TEST_CASE("parts: prefix, chipset header and trailer survive an edit") {
  const std::string ramdisk = test::gzip(first_ramdisk());
  const std::string inner = BootBytes{.version = 1,
                                      .page = 2048,
                                      .kernel = noise(900),
                                      .ramdisk = chipset_header("ROOTFS", ramdisk) + ramdisk}
                                .done();
  const PartsBench bench(sealed(inner) + "SEANDROIDENFORCE");
  check_same(bench.repack().bytes, as_view(bench.stock));
  write(bench / "tree/added", noise(3000));
  const auto out = bench.repack().bytes;
  const auto image = load_image(out, "again");
  REQUIRE(image);
  CHECK(prefix::is_true(image->image->prefix(), out.rest(512)) == true);
  CHECK(text(image->image->tail()) == "SEANDROIDENFORCE");
  const auto part = boot::ramdisk_parts(*image->image).front();
  CHECK(part.header.size() == 512);
  CHECK(content(part.bytes, "added") == noise(3000));
}

TEST_CASE("parts: words of the list that do not belong to an entry's type are refused") {
  for (const char* line : {"f 0644 0 0 0 - a -> b", "l 0777 0 0 0 - a = 0001",
                           "d 0755 0 0 0 - a == b", "c 0600 0 0 0 5:1 a = 0001"}) {
    CAPTURE(line);
    CHECK(parts::parse_rows(line).error().code == ErrorCode::BadValue);
  }
  CHECK(parts::parse_rows("l 0777 0 0 0 - a ->"));
  // What is written is read back, whatever bytes a name has.
  const auto odd = parts::parse_rows("f 0644 0 0 0 - a%20b = x%00%25y");
  REQUIRE(odd);
  CHECK((*parts::parse_rows(parts::format_rows(*odd)))[0].odd == std::string("x\0%y", 4));
}

TEST_CASE("parts: what does not fit says by how much and what was put in") {
  const PartsBench bench(with_footer(BootBytes{.ramdisk = test::lz4_legacy(first_ramdisk())}.done(),
                                     "boot", 1u << 16));
  write(bench / "tree/huge", noise(1u << 17));
  const auto refused = parts::repack(bench.folder());
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::DoesNotFit);
  CHECK(refused.error().message.find("bytes too large") != std::string::npos);
  CHECK(refused.error().hint.find("/huge (131072 bytes)") != std::string::npos);
}

TEST_CASE("parts: a stock ramdisk packed loosely is packed denser when it would not fit else") {
  std::string words;
  for (int i = 0; i < 40000; ++i)
    words += "word" + std::to_string(i * i % 977) + (i % 3 == 0 ? "\n" : " ");
  const std::string loose = test::gzip(CpioBytes{}.file("x", words).done(), 1);
  const std::string image = BootBytes{.ramdisk = loose}.done();
  // Room for the stock ramdisk's last page, and none behind it.
  const PartsBench bench(with_footer(image, "boot", image.size() + 2 * 4096));
  write(bench / "tree/more", noise(4096 - loose.size() % 4096 + 200));
  const auto repacked = bench.repack();
  CHECK(repacked.bytes.size() == bench.stock.size());
  CHECK(std::ranges::any_of(repacked.notes, [](const std::string& note) {
    return note.find("packed denser") != std::string::npos;
  }));
}

TEST_CASE("parts: a stored original that was changed is noticed whatever else was edited") {
  const std::string stock =
      BootBytes{.version = 4, .kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk())}
          .done() +
      "what a maker put behind it";
  std::size_t changed = 0;
  for (const char* file : {"header.bin", "ramdisk.bin", "tail.bin"})
    for (const bool edited : {false, true}) {
      CAPTURE(file);
      CAPTURE(edited);
      const PartsBench bench(stock);
      if (edited) test::write(bench / "tree/system/etc/build.prop", "ro.debuggable=1\n");
      std::string bytes = test::read(bench / file);
      REQUIRE_FALSE(bytes.empty());
      bytes[bytes.size() / 2] = static_cast<char>(bytes[bytes.size() / 2] ^ 1);
      test::write(bench / file, bytes);
      const auto repacked = parts::repack(bench.folder());
      REQUIRE_FALSE(repacked);
      CHECK(repacked.error().code == ErrorCode::DigestMismatch);
      ++changed;
    }
  CHECK(changed == 6);
}

TEST_CASE("parts: a mode that was set is taken, whatever a new file would have had") {
  const PartsBench bench(
      BootBytes{.kernel = noise(900), .ramdisk = test::gzip(first_ramdisk())}.done());
  fs::permissions(bench / "tree/init", fs::perms(0644));
  const Ramdisk ramdisk = bench.ramdisk();
  const auto at = find_entry(ramdisk, "init");
  REQUIRE(at);
  CHECK((entry_at(ramdisk, *at).get(newc::Field::Mode) & 07777) == 0644);
}

TEST_CASE("parts: numbers of the list are whole") {
  for (const auto& [from, to] : {std::pair{" 0750 ", " 0750x "}, {" 2000 ", " 20o0 "}}) {
    const PartsBench bench(
        BootBytes{.kernel = noise(900), .ramdisk = test::gzip(first_ramdisk())}.done());
    bench.edit("tree.list", from, to);
    const auto repacked = parts::repack(bench.folder());
    REQUIRE_FALSE(repacked);
    CHECK(repacked.error().code == ErrorCode::BadValue);
  }
}

TEST_CASE("parts: a device tree that was not changed is not told") {
  const PartsBench bench(fragments().done());
  test::write(bench / "tree/motd", "hello");
  CHECK_FALSE(told(bench.repack()).contains("device tree"));
}

TEST_CASE("parts: a part is a plain file of the folder") {
  const PartsBench bench(
      BootBytes{.kernel = noise(900), .ramdisk = test::gzip(first_ramdisk())}.done());
  fs::create_directory(bench / "sub");
  fs::copy_file(bench / "kernel.bin", bench / "sub/kernel.bin");
  bench.edit("parts.toml", "file = \"kernel.bin\"", "file = \"sub/kernel.bin\"");
  const auto repacked = parts::repack(bench.folder());
  REQUIRE_FALSE(repacked);
  CHECK(repacked.error().message.contains("plain file name"));
}

TEST_CASE("parts: a board id has sixteen numbers at most") {
  const auto with = [](int count) {
    const PartsBench bench(fragments().done());
    std::string words;
    for (int i = 0; i < count; ++i)
      words += std::to_string(i) + ", ";
    bench.edit("parts.toml", "name = \"recovery\"\ntype = \"recovery\"\nboard_id = []",
               "name = \"recovery\"\ntype = \"recovery\"\nboard_id = [" + words + "]");
    return parts::repack(bench.folder()).has_value();
  };
  CHECK(with(16));
  CHECK_FALSE(with(17));
}

TEST_CASE("parts: all that a folder describes is one image, and no larger than any") {
  const PartsBench bench(
      BootBytes{.kernel = noise(900), .ramdisk = test::gzip(first_ramdisk())}.done());
  std::string list = test::read(bench / "parts.toml");
  const std::string most = std::to_string(1u << 30);
  std::size_t lines = 0;
  for (auto at = list.find("padding_zeros = "); at != list.npos && lines < 2;
       at = list.find("padding_zeros = ", at + 1), ++lines) {
    const auto begin = at + 16, end = list.find('\n', begin);
    list.replace(begin, end - begin, most);
  }
  REQUIRE(lines == 2);
  test::write(bench / "parts.toml", list);
  const auto repacked = parts::repack(bench.folder());
  REQUIRE_FALSE(repacked);
  CHECK(repacked.error().message.contains("larger than any"));
}

TEST_CASE("parts: a padding file that was changed is noticed, beside an edited tree, too") {
  std::string stock =
      BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk())}.done();
  for (std::size_t at = 4096 + 5000; at < 4096 + 8192; ++at)
    stock[at] = '\x5a';
  for (const bool edited : {false, true}) {
    CAPTURE(edited);
    const PartsBench bench(stock);
    std::string padding;
    for (const auto& entry : fs::directory_iterator(bench.folder()))
      if (entry.is_regular_file() && entry.file_size() == 8192 - 5000)
        padding = entry.path().filename().string();
    REQUIRE_FALSE(padding.empty());
    if (edited) test::write(bench / "tree/system/etc/build.prop", "ro.debuggable=1\n");
    std::string bytes = test::read(bench / padding);
    bytes[7] = 'x';
    test::write(bench / padding, bytes);
    const auto repacked = parts::repack(bench.folder());
    REQUIRE_FALSE(repacked);
    CHECK(repacked.error().code == ErrorCode::DigestMismatch);
  }
}
