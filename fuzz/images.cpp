/// Boot, vendor_boot and recovery images, whatever stands before and behind them.

#include "firmware/formats.hpp"
#include "image/boot.hpp"
#include "image/fragments.hpp"
#include "image/tail.hpp"
#include "support/boot.hpp"
#include "support/vbmeta.hpp"
#include "target.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::fuzz {
namespace {

/// A ramdisk put back as it is leaves the ramdisks as they were.
void put_back(const Image& image) {
  const auto before = boot::ramdisk_parts(image);
  for (std::size_t i = 0; i < before.size(); ++i) {
    Image again = image;
    if (!boot::replace_ramdisk(again, i, before[i].bytes)) continue;
    const auto after = boot::ramdisk_parts(again);
    must(after.size() == before.size());
    for (std::size_t j = 0; j < before.size(); ++j)
      must(equal(before[j].bytes.view(), after[j].bytes.view()));
  }
}

}  // namespace

void image(View input) {
  const auto loaded = load_image(Blob(to_bytes(input)), "input");
  if (!loaded || !loaded->image) return;
  must(equal(loaded->image->write(), input));
  std::uint64_t tail = 0;
  for (const TailItem& item : tail_items(loaded->image->tail().view()))
    tail += item.size;
  must(tail == loaded->image->tail().size());
  put_back(*loaded->image);
  (void)boot::cmdline(*loaded->image);
  (void)boot::id_recipe(*loaded->image);
  Image edited = *loaded->image;
  (void)verified::rebuild_tail(edited, input);
}

std::vector<std::string> image_seeds() {
  using namespace test;
  std::vector<std::string> seeds;
  for (unsigned version = 0; version <= 4; ++version) {
    BootBytes b{.version = version, .page = 2048, .kernel = noise(300), .ramdisk = noise(200)};
    if (version <= 2) b.second = noise(50);
    if (version == 2) b.dtb = test::device_tree("Korvale", "korvale,x");
    seeds.push_back(b.done());
    seeds.push_back(sealed(b.done()));
    seeds.push_back(b.done() + "SEANDROIDENFORCE");
    seeds.push_back(with_footer(b.done(), "boot", 1u << 15));
  }
  VendorBootBytes v{
      .page = 2048, .dtb = test::device_tree("Korvale", "korvale,x"), .bootconfig = "a=b\n"};
  v.named = {{"", 1, noise(100)}, {"recovery", 2, noise(60)}, {"dlkm", 3, noise(80), 7}};
  seeds.push_back(v.done());
  v.version = 3;
  v.ramdisk = noise(100);
  v.named.clear();
  seeds.push_back(v.done());
  seeds.push_back(ElfBytes{.kernel = zimage_kernel(), .ramdisk = noise(200)}.done());
  seeds.push_back(shifted_boot(noise(300), noise(200)));
  return seeds;
}

void vbmeta(View input) {
  const Blob bytes(to_bytes(input));
  const auto parsed = verified::parse_vbmeta(bytes);
  if (parsed) {
    must(equal(parsed->write(), input));
    (void)verified::descriptors(*parsed);
    (void)verified::own_hash_matches(*parsed);
    (void)verified::hash_matches(*parsed, input);
  }
  (void)verified::own_digest_matches(input);
}

std::vector<std::string> vbmeta_seeds() {
  using namespace test;
  return {test::vbmeta(property_descriptor("a", "b"), 0, 1),
          test::vbmeta(raw_descriptor(9, "unknown!")),
          with_footer(BootBytes{.ramdisk = noise(50)}.done(), "boot", 1u << 15)};
}

}  // namespace wexlo::fuzz
