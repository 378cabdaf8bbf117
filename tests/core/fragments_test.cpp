#include "image/fragments.hpp"

#include "firmware/formats.hpp"
#include "image/boot.hpp"
#include "image/part_header.hpp"
#include "image/prefix.hpp"
#include "image/tail.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/vbmeta.hpp"
#include "verified/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

VendorBootBytes three() {
  VendorBootBytes v;
  v.dtb = noise(700);
  v.bootconfig = "androidboot.hardware=vernier\n";
  v.named = {
      {"", 1, noise(5000, 1)}, {"recovery", 2, noise(3001, 2)}, {"dlkm", 3, noise(999, 3), 0x42}};
  return v;
}

Image vendor(const VendorBootBytes& v) {
  auto image = boot::parse_vendor_boot(blob(v.done()));
  REQUIRE(image);
  return std::move(*image);
}

}  // namespace

TEST_CASE("fragments: each has its name, type, board id and bytes, in the table's order") {
  const VendorBootBytes v = three();
  const auto parts = boot::ramdisk_parts(vendor(v));
  REQUIRE(parts.size() == 3);
  for (std::size_t i = 0; i < parts.size(); ++i) {
    CHECK(parts[i].name == v.named[i].name);
    CHECK(parts[i].type == v.named[i].type);
    CHECK(parts[i].index == i);
    check_same(parts[i].bytes, as_view(v.named[i].bytes));
  }
  CHECK(parts[0].title() == "vendor_ramdisk.0");
  CHECK(parts[1].title() == "vendor_ramdisk.recovery");
  CHECK(parts[2].board_id[0] == 0x42);
  CHECK(parts[1].offset == parts[0].offset + 5000);
  CHECK(boot::ramdisk_type_name(3) == "dlkm");
  CHECK(boot::ramdisk_type_name(9) == "9");
  CHECK(boot::ramdisk_type_named("recovery") == 2u);
  CHECK_FALSE(boot::ramdisk_type_named("x"));
}

TEST_CASE("fragments: one of another size moves those behind it, and nothing else") {
  for (const std::size_t which : {0u, 1u, 2u})
    for (const std::size_t size : {1u, 3000u, 20000u}) {
      VendorBootBytes v = three();
      Image image = vendor(v);
      v.named[which].bytes = noise(size, 7);
      REQUIRE(boot::replace_ramdisk(image, which, blob(v.named[which].bytes)));
      CAPTURE(which);
      CAPTURE(size);
      check_same(image.write(), as_view(v.done()));
    }
}

TEST_CASE("fragments: attributes are written into the table alone") {
  VendorBootBytes v = three();
  Image image = vendor(v);
  v.named[1].name = "rescue";
  v.named[1].type = 7;
  v.named[1].board = 0x99;
  REQUIRE(boot::set_fragment(image, 1, "rescue", 7, {0x99}));
  check_same(image.write(), as_view(v.done()));
  CHECK(boot::set_fragment(image, 1, std::string(32, 'n'), 7, {}).error().code ==
        ErrorCode::OutOfRange);
  CHECK(boot::set_fragment(image, 9, "x", 7, {}).error().code == ErrorCode::Unsupported);
}

TEST_CASE("fragments: a table that lies is refused with the field's place") {
  const std::string good = three().done();
  const auto header = [&](std::size_t at, std::uint32_t value) {
    std::string bytes = good;
    bytes.replace(at, 4, le32(value));
    return boot::parse_vendor_boot(blob(bytes));
  };
  CHECK(header(2116, 4).error().offset == 2116);  // more entries than fit
  CHECK(header(2116, 0xffffffff).error().code == ErrorCode::OutOfRange);
  CHECK(header(2120, 12).error().offset == 2120);  // rows too short
  const auto table =
      static_cast<std::size_t>(vendor(three()).section("vendor_ramdisk_table")->offset);
  const auto row = header(table + 108 + 4, 0xfffffff0);  // the second one's offset
  CHECK(row.error().code == ErrorCode::OutOfRange);
  CHECK(row.error().offset == table + 108 + 4);
  const auto over = header(table + 108 + 4, 10);  // over the first one
  CHECK(over.error().code == ErrorCode::BadValue);
}

TEST_CASE("part header: a ramdisk and a kernel behind one are found, and its size follows") {
  const std::string ramdisk = noise(3000, 4);
  BootBytes b{.version = 1, .page = 2048, .kernel = noise(100)};
  b.ramdisk = chipset_header("ROOTFS", ramdisk) + ramdisk;
  auto image = boot::parse_boot(blob(b.done()));
  REQUIRE(image);
  const auto parts = boot::ramdisk_parts(*image);
  REQUIRE(parts.size() == 1);
  CHECK(part_header::name_of(parts[0].header) == "ROOTFS");
  check_same(parts[0].bytes, as_view(ramdisk));
  const std::string fresh = noise(5555, 5);
  b.ramdisk = chipset_header("ROOTFS", fresh) + fresh;
  const auto id = boot::id_recipe(*image);
  REQUIRE(boot::replace_ramdisk(*image, 0, blob(fresh)));
  REQUIRE(boot::refresh(*image, id));
  check_same(image->write(), as_view(b.done()));
}

TEST_CASE("part header: a size that was wrong stays as it was") {
  const std::string header = chipset_header("KERNEL", noise(10));
  CHECK(text(part_header::renewed(as_view(header), 11, 20)) == header);
  const auto split = part_header::split(blob(header + noise(10) + "rest"));
  CHECK(text(split.payload) == noise(10));
  CHECK(text(split.rest) == "rest");
  CHECK(part_header::split(blob("plain")).header.empty());
}

TEST_CASE("old version 0 images: a device-tree section where the version stands later") {
  const BootBytes b{.version = 0, .page = 2048, .kernel = noise(500), .ramdisk = noise(400)};
  std::string bytes = b.done();
  const std::string trees = "QCDT" + noise(3000);
  bytes.replace(40, 4, le32(static_cast<std::uint32_t>(trees.size())));
  bytes += padded(trees, 2048);
  const auto image = boot::parse_boot(blob(bytes));
  REQUIRE(image);
  CHECK(image->layout().version == 0);
  check_same(image->section("dt")->bytes, as_view(trees));
  check_same(image->write(), as_view(bytes));
}

TEST_CASE("boot: versions 5 to 255 are refused by their number") {
  for (unsigned version = 5; version < 256; ++version)
    for (std::string bytes : {BootBytes{.version = 2, .page = 2048, .kernel = noise(99)}.done(),
                              BootBytes{.version = 4, .ramdisk = noise(99)}.done()}) {
      bytes.replace(40, 4, le32(version));
      const auto refused = boot::parse_boot(blob(bytes));
      REQUIRE_FALSE(refused);
      CHECK(refused.error().code == ErrorCode::Unsupported);
      CHECK(refused.error().offset == 40);
    }
}

TEST_CASE("prefix: makers' bytes before an image are found, kept and renewed") {
  const BootBytes b{.version = 1, .page = 2048, .kernel = noise(900), .ramdisk = noise(800)};
  const std::string known = sealed(b.done());
  const auto loaded = load_image(blob(known), "x");
  REQUIRE(loaded);
  CHECK(loaded->image->prefix().size() == 512);
  CHECK(loaded->image->section("kernel")->offset == 512 + 2048);
  CHECK(prefix::is_true(loaded->image->prefix(), loaded->bytes.rest(512)) == true);
  check_same(loaded->image->write(), as_view(known));

  Image edited = *loaded->image;
  REQUIRE(edited.replace("ramdisk", blob(noise(5000, 2))));
  REQUIRE(verified::rebuild_tail(edited, as_view(known)));
  const Bytes out = edited.write();
  CHECK(prefix::is_true(View(out).first(512), View(out).subspan(512)) == true);

  for (const std::size_t gap : {512u, 1024u, 4096u, 1u << 19}) {
    const std::string odd = noise(gap, 3) + b.done();
    const auto unknown = load_image(blob(odd), "x");
    REQUIRE(unknown);
    CHECK(prefix::kind_of(unknown->image->prefix()) == "unknown");
    check_same(unknown->image->write(), as_view(odd));
    Image changed = *unknown->image;
    REQUIRE(changed.replace("ramdisk", blob(noise(90, 2))));
    const auto notes = verified::rebuild_tail(changed, as_view(odd));
    REQUIRE(notes);
    CHECK(notes->size() == 1);  // it may need an update that nobody knows
  }
  CHECK_FALSE(load_image(blob(noise(513, 3) + b.done()), "x"));
}

TEST_CASE("prefix: a chipset part header may stand before a whole image of any kind") {
  const std::string table = TableBytes{.blobs = {device_tree("a", "b")}}.done();
  const std::string whole = chipset_header("dtbo", table) + table;
  const auto loaded = load_image(blob(whole), "x");
  REQUIRE(loaded);
  CHECK(loaded->image->kind() == "dt-table");
  check_same(loaded->image->write(), as_view(whole));
}

TEST_CASE("tail: what stands behind an image is told piece by piece") {
  const std::string der = std::string("\x30\x82\x01\x00\x02\x01\x01", 7) + noise(0x100 - 3);
  const std::string tail = "SEANDROIDENFORCE" + std::string(100, '\0') + std::string(50, '\xff');
  const auto kinds = [](const std::string& bytes) {
    std::string out;
    std::uint64_t at = 0;
    for (const TailItem& item : tail_items(as_view(bytes))) {
      CHECK(item.offset == at);
      at += item.size;
      out += std::string(tail_name(item.kind)) + " " + std::to_string(item.size) + ";";
    }
    CHECK(at == bytes.size());
    return out;
  };
  CHECK(kinds(tail) == "enforcing trailer 16;zeros 100;0xff 50;");
  CHECK(kinds(der) == "older boot signature 260;");
  CHECK(kinds("").empty());
  const std::string image = with_footer(BootBytes{.ramdisk = noise(50)}.done(), "boot", 1u << 16);
  const auto parsed = boot::parse_boot(blob(image));
  const std::string all = kinds(text(parsed->tail()));
  CHECK(all.find("vbmeta") != std::string::npos);
  CHECK(all.ends_with("verified-boot footer 64;"));
  CHECK(has_older_signature(as_view(der)));
  CHECK_FALSE(has_older_signature(as_view(tail)));
}

TEST_CASE("tail: a trailer follows the last section when that grows") {
  BootBytes b{.version = 1, .page = 2048, .kernel = noise(900), .ramdisk = noise(800)};
  const std::string stock = b.done() + "SEANDROIDENFORCE" + std::string(9000, '\0');
  auto image = boot::parse_boot(blob(stock));
  b.ramdisk = noise(4000, 3);
  b.id = BootBytes::Id::None;
  REQUIRE(image->replace("ramdisk", blob(b.ramdisk)));
  REQUIRE(image->set_raw("id", {}));
  REQUIRE(verified::rebuild_tail(*image, as_view(stock)));
  std::string wanted = b.done() + "SEANDROIDENFORCE";
  wanted.resize(stock.size());
  check_same(image->write(), as_view(wanted));
}

TEST_CASE("prefix: a part header that says more than there is, is not valid") {
  const std::string header = chipset_header("KERNEL", noise(100));
  CHECK(prefix::is_true(as_view(header), as_view(noise(100))) == true);
  CHECK(prefix::is_true(as_view(header), as_view(noise(99))) == false);
}
