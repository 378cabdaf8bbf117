#include "verified/vbmeta.hpp"

#include "image/boot.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::string all_kinds() {
  return property_descriptor("com.korvale.key", "value") + hashtree_descriptor("system") +
         test::hash_descriptor("boot", "image", "salt") + cmdline_descriptor(1, "dm=\"1 vroot\"") +
         chain_descriptor("vbmeta_system", 2, noise(520)) + raw_descriptor(99, "future");
}

Error refused(const std::string& bytes) {
  const auto image = verified::parse_vbmeta(blob(bytes));
  if (!image) return image.error();
  const auto all = verified::descriptors(*image);
  REQUIRE_FALSE(all);
  return all.error();
}

}  // namespace

TEST_CASE("vbmeta: all descriptors are read, in order, unknown ones kept") {
  const auto image = verified::parse_vbmeta(blob(vbmeta(all_kinds(), 3, 1)));
  REQUIRE(image);
  CHECK(image->number("rollback_index") == 7);
  CHECK(image->number("flags") == 3);
  const auto all = verified::descriptors(*image);
  REQUIRE(all);
  REQUIRE(all->size() == 6);
  const auto& property = std::get<verified::PropertyDescriptor>((*all)[0].value);
  CHECK(property.key == "com.korvale.key");
  CHECK(property.value == "value");
  const auto& tree = std::get<verified::HashtreeDescriptor>((*all)[1].value);
  CHECK(tree.partition == "system");
  CHECK(tree.hash_algorithm == "sha1");
  CHECK(tree.image_size == 8192);
  CHECK(tree.fec_offset == 12288);
  CHECK(tree.flags == 1);
  CHECK(text(tree.root_digest) == noise(20));
  const auto& hash = std::get<verified::HashDescriptor>((*all)[2].value);
  CHECK(hash.partition == "boot");
  CHECK(text(hash.salt) == "salt");
  CHECK(text(hash.digest) == sha256("saltimage"));
  CHECK(std::get<verified::CmdlineDescriptor>((*all)[3].value).text == "dm=\"1 vroot\"");
  const auto& chain = std::get<verified::ChainDescriptor>((*all)[4].value);
  CHECK(chain.rollback_index_location == 2);
  CHECK(chain.public_key.size() == 520);
  CHECK(std::get<verified::UnknownDescriptor>((*all)[5].value).tag == 99);
}

TEST_CASE("vbmeta: identity, with the partition's padding, and one byte changes with the flags") {
  for (const std::uint32_t algorithm : {0u, 1u}) {
    const std::string bytes = vbmeta(all_kinds(), 0, algorithm) + std::string(3000, '\0');
    auto image = verified::parse_vbmeta(blob(bytes));
    REQUIRE(image);
    check_same(image->write(), as_view(bytes));
    REQUIRE(image->set_number("flags", 3));
    std::string wanted = bytes;
    wanted[123] = 3;
    check_same(image->write(), as_view(wanted));
  }
}

TEST_CASE("vbmeta: its own hash is over header and auxiliary block") {
  std::string bytes = vbmeta(all_kinds(), 0, 1);
  CHECK(verified::own_hash_matches(*verified::parse_vbmeta(blob(bytes))) == false);
  bytes.replace(256, 32, sha256(bytes.substr(0, 256) + bytes.substr(256 + 320)));
  CHECK(verified::own_hash_matches(*verified::parse_vbmeta(blob(bytes))) == true);
  bytes[123] = 3;
  CHECK(verified::own_hash_matches(*verified::parse_vbmeta(blob(bytes))) == false);
  CHECK_FALSE(verified::own_hash_matches(*verified::parse_vbmeta(blob(vbmeta("")))).has_value());
}

TEST_CASE("vbmeta: names of algorithms and flags") {
  CHECK(verified::algorithm_name(0) == "none");
  CHECK(verified::algorithm_name(2) == "sha256-rsa4096");
  CHECK(verified::algorithm_name(6) == "sha512-rsa8192");
  CHECK(verified::algorithm_name(7) == "unknown (7)");
  CHECK(verified::flag_names(5) == std::vector<std::string>{"hashtree-disabled", "bit-2"});
  CHECK(verified::flag_named("verification-disabled") == 2);
  CHECK_FALSE(verified::flag_named("everything-off"));
}

TEST_CASE("vbmeta: every prefix of a good struct is refused") {
  const std::string whole = vbmeta(all_kinds(), 0, 1);
  for (std::size_t size = 0; size < whole.size(); ++size)
    CHECK_FALSE(verified::parse_vbmeta(blob(whole.substr(0, size))));
}

TEST_CASE("vbmeta: ranges outside their block, blocks out of step, another major version") {
  const std::string good = vbmeta(all_kinds(), 0, 1);
  // hash, signature, public key, metadata, descriptors: offset and size fields
  for (const std::size_t at : {32, 40, 48, 56, 64, 72, 80, 88, 96, 104}) {
    for (const std::uint64_t value : {std::uint64_t{100000}, ~std::uint64_t{0}}) {
      std::string bad = good;
      bad.replace(at, 8, be64(value));
      CAPTURE(at);
      CHECK(refused(bad).code == ErrorCode::BadValue);
    }
  }
  std::string bad = good;
  bad.replace(20, 8, be64(~std::uint64_t{0}));
  CHECK(refused(bad).code == ErrorCode::Truncated);
  bad = good;
  bad.replace(12, 8, be64(319));
  CHECK(refused(bad).code == ErrorCode::BadValue);
  bad = good;
  bad.replace(4, 4, be32(2));
  CHECK(refused(bad).code == ErrorCode::Unsupported);
  CHECK(refused("AVB1").code == ErrorCode::BadMagic);
}

TEST_CASE("vbmeta: descriptors whose lengths lie are refused with their place") {
  const auto with = [](std::string descriptor, std::size_t at, std::uint64_t value) {
    descriptor.replace(at, 8, be64(value));
    return refused(vbmeta(descriptor));
  };
  const std::string property = property_descriptor("key", "value");
  CHECK(with(property, 8, 33).code == ErrorCode::BadValue);
  CHECK(with(property, 8, 8000).code == ErrorCode::Truncated);
  CHECK(with(property, 8, 8000).offset == 256 + 16);
  CHECK(with(property, 16, 1000).code == ErrorCode::Truncated);
  CHECK(with(property, 24, ~std::uint64_t{0}).code == ErrorCode::Truncated);
  std::string hash = test::hash_descriptor("boot", "i", "s");
  hash.replace(60, 4, be32(0xffffffff));  // salt_len
  CHECK(refused(vbmeta(hash)).message.find("salt") != std::string::npos);
  CHECK(refused(vbmeta(property + std::string(8, '\0'))).code == ErrorCode::Truncated);
}

TEST_CASE("footer: found at the end, its digest checked against the image") {
  const std::string image = BootBytes{.kernel = noise(5000)}.done();
  std::string bytes = with_footer(image, "boot", 65536);
  const auto footer = verified::find_footer(as_view(bytes));
  REQUIRE(footer);
  REQUIRE(*footer);
  CHECK((*footer)->original_image_size == image.size());
  CHECK(*verified::own_digest_matches(as_view(bytes)) == true);
  bytes[5000] = static_cast<char>(bytes[5000] ^ 1);
  CHECK(*verified::own_digest_matches(as_view(bytes)) == false);
  CHECK_FALSE(verified::find_footer(as_view(image))->has_value());
  CHECK_FALSE(verified::find_footer({})->has_value());
}

TEST_CASE("footer: one that points outside the image is refused") {
  const std::string good = with_footer(BootBytes{.kernel = noise(5000)}.done(), "boot", 65536);
  for (const std::size_t at : {12, 20, 28})
    for (const std::uint64_t value : {std::uint64_t{65536}, ~std::uint64_t{0}}) {
      std::string bad = good;
      bad.replace(good.size() - 64 + at, 8, be64(value));
      const auto footer = verified::find_footer(as_view(bad));
      REQUIRE_FALSE(footer);
      CHECK(footer.error().code == ErrorCode::OutOfRange);
    }
  std::string newer = good;
  newer.replace(good.size() - 60, 4, be32(2));
  CHECK(verified::find_footer(as_view(newer)).error().code == ErrorCode::Unsupported);
}

TEST_CASE("footer: rebuilt around a changed image exactly as a fresh build would have it") {
  BootBytes b{.kernel = noise(5000), .ramdisk = noise(3000)};
  const std::string stock = with_footer(b.done(), "boot", 1u << 17);
  for (const std::size_t size : {100u, 3001u, 60000u}) {
    auto image = *boot::parse_boot(blob(stock));
    b.ramdisk = noise(size, 9);
    REQUIRE(image.replace("ramdisk", blob(b.ramdisk)));
    const auto notes = verified::rebuild_tail(image, as_view(stock));
    REQUIRE(notes);
    check_same(image.write(), as_view(with_footer(b.done(), "boot", 1u << 17)));
  }
}

TEST_CASE("footer: a maker's bytes between image and struct are carried") {
  BootBytes b{.kernel = noise(5000), .ramdisk = noise(3000)};
  const auto with_gap = [&] {
    std::string bytes = with_footer(b.done() + std::string(4096, 'g'), "boot", 1u << 17);
    // The 4096 bytes are made a gap: the footer and its digest speak of the image without them.
    const std::string own = vbmeta(test::hash_descriptor("boot", b.done(), noise(32, 5)) +
                                   test::property_descriptor("com.korvale.tests", "yes"));
    bytes.replace(bytes.size() - 64 + 12, 8, be64(b.done().size()));
    bytes.replace(b.done().size() + 4096, own.size(), own);
    return bytes;
  };
  const std::string stock = with_gap();
  auto image = *boot::parse_boot(blob(stock));
  b.ramdisk = noise(20000, 9);
  REQUIRE(image.replace("ramdisk", blob(b.ramdisk)));
  REQUIRE(verified::rebuild_tail(image, as_view(stock)));
  check_same(image.write(), as_view(with_gap()));
}

TEST_CASE("footer: bytes behind the struct that nobody claims are not lost in silence") {
  BootBytes b{.kernel = noise(5000), .ramdisk = noise(3000)};
  std::string stock = with_footer(b.done(), "boot", 65536);
  stock[60000] = 'x';
  auto image = *boot::parse_boot(blob(stock));
  REQUIRE(image.replace("ramdisk", blob(noise(100))));
  CHECK(verified::rebuild_tail(image, as_view(stock)).error().code == ErrorCode::Unsupported);
}

TEST_CASE("footer: zeros at the image's end make room where it is needed") {
  BootBytes b{.kernel = noise(5000), .ramdisk = noise(3000)};
  const std::string stock = with_footer(b.done() + std::string(40000, '\0'), "boot", 1u << 16);
  auto image = *boot::parse_boot(blob(stock));
  b.ramdisk = noise(30000, 9);
  REQUIRE(image.replace("ramdisk", blob(b.ramdisk)));
  REQUIRE(verified::rebuild_tail(image, as_view(stock)));
  check_same(image.write(), as_view(with_footer(b.done(), "boot", 1u << 16)));
}

TEST_CASE("footer: an image that no longer fits is refused with the bytes it is over") {
  BootBytes b{.kernel = noise(5000), .ramdisk = noise(3000)};
  const std::string stock = with_footer(b.done(), "boot", 65536);
  auto image = *boot::parse_boot(blob(stock));
  REQUIRE(image.replace("ramdisk", blob(noise(60000))));
  const auto refused_fit = verified::rebuild_tail(image, as_view(stock));
  REQUIRE_FALSE(refused_fit);
  CHECK(refused_fit.error().code == ErrorCode::DoesNotFit);
  // header 4096, kernel 8192, ramdisk 61440, struct 4096, footer block 4096
  CHECK(refused_fit.error().message.find(std::to_string(81920 - 65536)) != std::string::npos);
}

TEST_CASE("tail: padding keeps the file's size, a trailer follows the last section directly") {
  BootBytes b{.kernel = noise(5000), .ramdisk = noise(3000)};
  for (const std::string& trailer : {std::string(), std::string("A TRAILER STRING")})
    for (const char fill : {'\0', '\xff'}) {
      b.ramdisk = noise(3000);
      std::string stock = b.done() + trailer;
      stock.resize(65536, fill);
      auto image = *boot::parse_boot(blob(stock));
      b.ramdisk = noise(9000);
      REQUIRE(image.replace("ramdisk", blob(b.ramdisk)));
      REQUIRE(verified::rebuild_tail(image, as_view(stock)));
      std::string wanted = b.done() + trailer;
      wanted.resize(65536, fill);
      check_same(image.write(), as_view(wanted));
    }
}
