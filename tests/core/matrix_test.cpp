/// Identity over what phones combine: header version, page size, compression, wrapping. Everything
/// is built by hand in the tests' own builders.

#include "core/parts_bench.hpp"
#include "recipe/patch.hpp"
#include "recipe/restore.hpp"
#include "support/places.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

struct Packing {
  const char* name;
  std::string (*pack)(const std::string&);
};
const Packing kPackings[] = {
    {"none", [](const std::string& s) { return s; }},
    {"gzip", [](const std::string& s) { return test::gzip(s); }},
    {"lz4 legacy", [](const std::string& s) { return test::lz4_legacy(s); }},
    {"lz4 legacy, size behind", [](const std::string& s) { return test::lz4_legacy(s, true); }},
    {"lz4 frame", [](const std::string& s) { return test::lz4_frame(s); }},
    {"xz", [](const std::string& s) { return test::xz(s); }},
    {"lzma", [](const std::string& s) { return test::lzma(s, 1); }},
    {"bzip2", [](const std::string& s) { return test::bzip2(s); }},
    {"zstd", [](const std::string& s) { return test::zstd(s); }},
    {"joined",
     [](const std::string& s) { return test::gzip(s) + std::string(5, '\0') + test::gzip(s); }},
};

struct Wrapping {
  const char* name;
  std::string (*wrap)(const std::string&);
};
const Wrapping kWrappings[] = {
    {"plain", [](const std::string& s) { return s; }},
    {"zeros", [](const std::string& s) { return s + std::string(9000, '\0'); }},
    {"0xff", [](const std::string& s) { return s + std::string(9000, '\xff'); }},
    {"trailer",
     [](const std::string& s) { return s + "SEANDROIDENFORCE" + std::string(5000, '\0'); }},
    {"footer", [](const std::string& s) { return with_footer(s, "boot", 1u << 20); }},
    {"sealed", [](const std::string& s) { return sealed(s); }},
    {"behind a prefix", [](const std::string& s) { return noise(1024, 9) + s; }},
};

std::string image_of(unsigned version, std::size_t page, const std::string& ramdisk) {
  if (version >= 13) {  // vendor_boot 3 and 4
    VendorBootBytes v{
        .version = version - 10, .page = page, .dtb = device_tree("Korvale", "korvale,x")};
    if (version == 14) {
      v.bootconfig = "androidboot.hardware=vernier\n";
      v.named = {{"", 1, ramdisk}, {"recovery", 2, ramdisk}};
    } else {
      v.ramdisk = ramdisk;
    }
    return v.done();
  }
  BootBytes b{.version = version, .page = page, .kernel = noise(300), .ramdisk = ramdisk};
  if (version <= 2) b.second = noise(90);
  if (version == 1 || version == 2) b.recovery_dtbo = noise(70);
  if (version == 2) b.dtb = device_tree("Korvale", "korvale,x");
  if (version == 4) b.signature = std::string(4096, '\0');
  return b.done();
}

void check_image(const std::string& bytes) {
  const auto loaded = load_image(blob(bytes), "matrix.img");
  REQUIRE(loaded);
  REQUIRE(loaded->image);
  check_same(loaded->image->write(), as_view(bytes));
  for (const boot::RamdiskPart& part : boot::ramdisk_parts(*loaded->image)) {
    const auto ramdisk = parse_ramdisk(part.bytes);
    REQUIRE(ramdisk);
    check_same(*encode_ramdisk(*ramdisk), part.bytes);
  }
}

}  // namespace

TEST_CASE("matrix: every version, page size, compression and wrapping comes back byte for byte") {
  const std::string archive = first_ramdisk();
  int images = 0;
  for (const unsigned version : {0u, 1u, 2u, 3u, 4u, 13u, 14u})
    for (const std::size_t page : {2048u, 4096u, 16384u, 131072u}) {
      if ((version == 3 || version == 4) && page != 4096) continue;
      for (const Packing& packing : kPackings) {
        const std::string image = image_of(version, page, packing.pack(archive));
        for (const Wrapping& wrapping : kWrappings) {
          CAPTURE(version);
          CAPTURE(page);
          CAPTURE(packing.name);
          CAPTURE(wrapping.name);
          // Under the sanitizers one of five, which meets each value of every list.
          if (++images % 5 == 0 || !watched()) check_image(wrapping.wrap(image));
        }
      }
    }
  CHECK(images == 5 * 4 * 70 + 2 * 70);
}

TEST_CASE(
    "matrix: taken apart and put together unchanged, and patched with an account that closes") {
  Recipe put{.name = "matrix"};
  put.edits.push_back({.kind = "put", .recipe = "matrix"});
  put.edits.back().what =
      PutEdit{.path = "new/file", .from = {.bound = true, .files = {{"", blob("x")}}}};
  std::size_t number = 0;
  for (const unsigned version : {0u, 2u, 3u, 4u, 13u, 14u})
    for (const Packing& packing : kPackings)
      for (const std::size_t w : {0u, 3u, 4u, 5u}) {
        if (watched() && ++number % 3 != 0) continue;
        const Wrapping& wrapping = kWrappings[w];
        CAPTURE(version);
        CAPTURE(packing.name);
        CAPTURE(wrapping.name);
        const std::string bytes =
            wrapping.wrap(image_of(version, 4096, packing.pack(first_ramdisk())));
        const PartsBench bench(bytes);
        const auto same = bench.repack();
        CHECK(same.changes.empty());
        check_same(same.bytes, as_view(bytes));
        const auto loaded = load_image(blob(bytes), "x");
        const auto patched = patch_image(*loaded, {"boot", true}, {put});
        REQUIRE_MESSAGE(patched, (patched ? "" : describe(patched.error())));
        const auto again = load_image(patched->bytes, "y");
        REQUIRE(again);
        CHECK(equal(patch_image(*again, {"boot", true}, {put})->bytes, patched->bytes));
        CHECK(patched->way_back.in_image);
        const auto back = restore_image(*again, {}, {});
        REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
        check_same(back->bytes, as_view(bytes));
      }
}
