#include "image/boot.hpp"
#include "image/fragments.hpp"

#include "support/boot.hpp"
#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

BootBytes full(unsigned version, std::size_t page = 4096) {
  BootBytes b{.version = version, .page = page};
  b.kernel = noise(10000, 1);
  b.ramdisk = noise(7001, 2);
  if (version <= 2) b.second = noise(123, 3);
  if (version == 1 || version == 2) b.recovery_dtbo = noise(5000, 4);
  if (version == 2) b.dtb = noise(4096, 5);
  if (version == 4) b.signature = noise(4096, 6);
  return b;
}

}  // namespace

TEST_CASE("boot: identity over all versions, page sizes and tails") {
  for (unsigned version = 0; version <= 4; ++version)
    for (std::size_t page = 2048; page <= 131072; page *= 2)
      for (const std::string& tail :
           {std::string(), std::string(9000, '\0'), noise(77), std::string(5000, '\xff')}) {
        CAPTURE(version);
        CAPTURE(page);
        const std::string bytes = full(version, page).done() + tail;
        const auto image = boot::parse_boot(blob(bytes));
        REQUIRE(image);
        check_same(image->write(), as_view(bytes));
      }
}

TEST_CASE("boot: sections stand where the format puts them") {
  const auto image = boot::parse_boot(blob(full(2, 2048).done()));
  REQUIRE(image);
  CHECK(image->page() == 2048);
  const auto at = [&](const char* name) { return image->section(name)->offset; };
  CHECK(at("kernel") == 2048);
  CHECK(at("ramdisk") == 2048 + 10240);
  CHECK(at("second") == 2048 + 10240 + 8192);
  CHECK(at("recovery_dtbo") == image->number("recovery_dtbo_offset"));
  CHECK(text(image->section("dtb")->bytes.view()) == noise(4096, 5));
  CHECK(image->number("header_size") == 1660);
}

TEST_CASE("boot: fields as people write them") {
  BootBytes b = full(4);
  b.os_version = 12u << 25 | 1u << 18 | 3u << 11 | 23u << 4 | 7;
  const auto image = boot::parse_boot(blob(b.done()));
  CHECK(boot::os_version(*image).version == "12.1.3");
  CHECK(boot::os_version(*image).patch_level == "2023-07");
  CHECK(boot::cmdline(*image) == "console=ttyKV0");
  b.os_version = 0;
  CHECK(boot::os_version(*boot::parse_boot(blob(b.done()))).version.empty());
}

TEST_CASE("boot: a command line that overflows is joined, and written so that readers agree") {
  BootBytes b = full(2);
  b.cmdline = std::string(511, 'a') + " tail=1";
  auto image = boot::parse_boot(blob(b.done()));
  CHECK(boot::cmdline(*image) == b.cmdline);
  const std::string longer = std::string(600, 'b');
  REQUIRE(boot::set_cmdline(*image, longer));
  CHECK(boot::cmdline(*image) == longer);
  CHECK(image->raw("cmdline").back() == std::byte{0});
  CHECK_FALSE(boot::set_cmdline(*image, std::string(1535, 'c')));
  CHECK(boot::set_cmdline(*image, std::string(1534, 'c')));
  // The other style of writing: no NUL in the first field.
  std::string full_field = full(0).done();
  full_field.replace(64, 512, std::string(512, 'x'));
  full_field.replace(608, 4, "yyyy");
  CHECK(boot::cmdline(*boot::parse_boot(blob(full_field))) == std::string(512, 'x') + "yyyy");
}

TEST_CASE("boot: the id is known by recipe, and stays true exactly when it was") {
  for (unsigned version = 0; version <= 2; ++version)
    for (const auto id : {BootBytes::Id::Sha1, BootBytes::Id::Sha256, BootBytes::Id::None}) {
      BootBytes b = full(version);
      b.id = id;
      auto image = boot::parse_boot(blob(b.done()));
      const bool known = id != BootBytes::Id::None;
      CHECK(boot::id_recipe(*image).has_value() == known);
      CHECK(boot::id_matches(*image).has_value() == known);
      const auto recipe = boot::id_recipe(*image);
      b.ramdisk = noise(20000, 9);
      REQUIRE(image->replace("ramdisk", blob(b.ramdisk)));
      REQUIRE(boot::refresh(*image, recipe));
      check_same(image->write(), as_view(b.done()));  // what a fresh build of that content has
    }
  std::string wrong = full(0).done();
  wrong[580] = static_cast<char>(wrong[580] ^ 1);
  const auto image = boot::parse_boot(blob(wrong));
  CHECK(boot::id_matches(*image) == false);
  CHECK_FALSE(boot::id_recipe(*image));
}

TEST_CASE("boot: every prefix of a good image is refused, or given back as it is") {
  for (unsigned version = 0; version <= 4; ++version) {
    const std::string whole = full(version, 2048).done();
    for (std::size_t size = 0; size < whole.size(); size += size < 2000 ? 1 : 97) {
      const auto image = boot::parse_boot(blob(whole.substr(0, size)));
      if (image) check_same(image->write(), as_view(whole).first(size));
      // Only the last section's padding may be missing.
      if (size + 4096 < whole.size()) CHECK_FALSE(image);
    }
  }
}

TEST_CASE("boot: a section that runs past the end is named, with its size field") {
  std::string bytes = full(4).done();
  bytes.replace(12, 4, le32(0xffffffff));  // ramdisk_size
  const auto error = boot::parse_boot(blob(bytes)).error();
  CHECK(error.code == ErrorCode::Truncated);
  CHECK(error.message.find("ramdisk") != std::string::npos);
  CHECK(error.message.find("ramdisk_size at 0xc") != std::string::npos);
  CHECK(error.offset == 4096 + 12288);
  CHECK(error.expected == "4294967295 bytes");
}

TEST_CASE("boot: page sizes that are none are refused before anything is divided by them") {
  for (const std::uint32_t page : {0u, 1u, 1024u, 3000u, 262144u, 0xffffffffu, 0x80000000u}) {
    std::string bytes = full(0).done();
    bytes.replace(36, 4, le32(page));
    const auto image = boot::parse_boot(blob(bytes));
    REQUIRE_FALSE(image);
    CHECK(image.error().code == ErrorCode::BadValue);
    CHECK(image.error().offset == 36);
  }
}

TEST_CASE("boot: unknown versions are refused as not supported, other magics as not this kind") {
  for (const std::uint32_t version : {5u, 6u, 255u, 0xffffffffu}) {
    std::string bytes = full(4).done();
    bytes.replace(40, 4, le32(version));
    CHECK(boot::parse_boot(blob(bytes)).error().code == ErrorCode::Unsupported);
  }
  CHECK(boot::parse_boot(blob("ANDROIX!" + std::string(5000, '\0'))).error().code ==
        ErrorCode::BadMagic);
  CHECK(boot::parse_boot(blob("")).error().code == ErrorCode::BadMagic);
}

TEST_CASE("boot: init_boot is told from boot by its missing kernel") {
  BootBytes b = full(4);
  CHECK(boot::partition_kind(*boot::parse_boot(blob(b.done()))) == "boot");
  b.kernel.clear();
  CHECK(boot::partition_kind(*boot::parse_boot(blob(b.done()))) == "init_boot");
  b.ramdisk.clear();
  CHECK(boot::ramdisk_parts(*boot::parse_boot(blob(b.done()))).empty());
}

TEST_CASE("vendor_boot: identity over versions and page sizes") {
  for (const unsigned version : {3u, 4u})
    for (std::size_t page = 2048; page <= 16384; page *= 2) {
      VendorBootBytes v{.version = version, .page = page};
      v.ramdisk = noise(9000, 1);
      v.dtb = noise(300, 2);
      v.bootconfig = "androidboot.hardware=vernier\n";
      const std::string bytes = v.done() + std::string(100, '\0');
      const auto image = boot::parse_vendor_boot(blob(bytes));
      REQUIRE(image);
      CHECK(image->sections()[0].offset == (page == 2048 ? 4096 : page));
      check_same(image->write(), as_view(bytes));
    }
}

TEST_CASE("vendor_boot: a lone fragment may be replaced and its table entry follows") {
  VendorBootBytes v;
  v.ramdisk = noise(9000, 1);
  auto image = boot::parse_vendor_boot(blob(v.done()));
  CHECK(boot::ramdisk_parts(*image).front().section == "vendor_ramdisk");
  v.ramdisk = noise(5000, 2);
  REQUIRE(boot::replace_ramdisk(*image, 0, blob(v.ramdisk)));
  check_same(image->write(), as_view(v.done()));
}

TEST_CASE("image: fields that are not there, values and sections that do not fit") {
  auto image = *boot::parse_boot(blob(full(4).done()));
  CHECK(image.number("second_addr") == 0);
  CHECK(image.raw("id").empty());
  CHECK(image.set_number("id", 1).error().code == ErrorCode::Unsupported);
  CHECK(image.set_number("os_version", 1ull << 32).error().code == ErrorCode::OutOfRange);
  CHECK(image.set_raw("cmdline", as_view(std::string(1537, 'x'))).error().code ==
        ErrorCode::OutOfRange);
  CHECK(image.replace("dtb", {}).error().code == ErrorCode::Unsupported);
}

TEST_CASE("image: a part of none, less than a page, a page, and more moves those behind it") {
  for (const unsigned version : {0u, 2u, 3u, 4u}) {
    const std::size_t page = 4096;
    for (const std::size_t size : {std::size_t{0}, page - 1, page, page + 1, 2 * page}) {
      CAPTURE(version);
      CAPTURE(size);
      auto image = boot::parse_boot(blob(full(version, page).done()));
      REQUIRE(image);
      REQUIRE(image->replace("kernel", blob(noise(size, 9))));
      const std::size_t taken = (size + page - 1) / page * page;
      BootBytes wanted = full(version, page);
      wanted.kernel = noise(size, 9);
      wanted.id = BootBytes::Id::Sha1;
      const Bytes out = image->write();
      const auto again = boot::parse_boot(Blob(Bytes(out)));
      REQUIRE(again);
      CHECK(again->number("kernel_size") == size);
      CHECK(text(again->section("kernel")->bytes.view()) == noise(size, 9));
      CHECK(again->section("ramdisk")->offset == page + taken);
      CHECK(text(again->section("ramdisk")->bytes.view()) == noise(7001, 2));
      CHECK(out.size() == wanted.done().size());
      // What fills the last page is zeros.
      CHECK(text(View(out).subspan(page + size, taken - size)) == std::string(taken - size, '\0'));
    }
  }
}

TEST_CASE("boot: a command line of the longest length is written, one letter more is refused") {
  const auto longest = [](Image image, std::size_t most) {
    CAPTURE(most);
    const std::string fits(most, 'c');
    REQUIRE(boot::set_cmdline(image, fits));
    const auto again = image.kind() == "vendor_boot" ? boot::parse_vendor_boot(Blob(image.write()))
                                                     : boot::parse_boot(Blob(image.write()));
    REQUIRE(again);
    CHECK(boot::cmdline(*again) == fits);
    const auto over = boot::set_cmdline(image, fits + "c");
    REQUIRE_FALSE(over);
    CHECK(over.error().code == ErrorCode::OutOfRange);
    CHECK(boot::cmdline(image) == fits);
  };
  longest(value_of(boot::parse_boot(blob(full(0).done()))), 1534);
  longest(value_of(boot::parse_boot(blob(full(2).done()))), 1534);
  longest(value_of(boot::parse_boot(blob(full(3).done()))), 1535);
  longest(value_of(boot::parse_boot(blob(full(4).done()))), 1535);
  for (const unsigned version : {3u, 4u}) {
    const std::string vendor =
        VendorBootBytes{.version = version, .ramdisk = noise(100), .dtb = noise(100)}.done();
    longest(value_of(boot::parse_vendor_boot(blob(vendor))), 2047);
  }
}

TEST_CASE("image: the largest value of a field and the longest text are set, one more is not") {
  auto image = value_of(boot::parse_boot(blob(full(2).done())));
  REQUIRE(image.set_number("kernel_addr", 0xffffffff));
  CHECK(image.number("kernel_addr") == 0xffffffff);
  CHECK(image.set_number("kernel_addr", 0x100000000).error().code == ErrorCode::OutOfRange);
  CHECK(image.number("kernel_addr") == 0xffffffff);
}
