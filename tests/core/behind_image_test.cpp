/// What makers put at an image's end: bytes behind the verified-boot footer, sealed blocks.

#include "core/patch_bench.hpp"
#include "image/sealed_block.hpp"
#include "image/tail.hpp"
#include "recipe/account.hpp"
#include "recipe/restore.hpp"
#include "seal/seal.hpp"
#include "support/signed_set.hpp"
#include "verified/chain.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// A block by hand: SHA-256 at 8, length at 48, over what is given.
std::string block_over(const std::string& covered) {
  std::string out("DHTB\x01\0\0\0", 8);
  out += sha256(covered);
  out.resize(48);
  out += le32(size32(covered));
  out.resize(512);
  return out;
}

std::string small_boot() {
  return BootBytes{.kernel = noise(5000), .ramdisk = test::gzip(first_ramdisk())}.done();
}

std::string footed_boot() {
  return with_footer(small_boot(), "boot", 1u << 17);
}

/// Patched, and taken back to the same bytes.
std::string patched_and_back(const std::string& stock) {
  const Patched done = patch(stock, recipe(kAddOn, noise(3000)));
  const auto back = restore_image(load(text(done.bytes)), {}, {});
  REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
  CHECK(text(back->bytes.view()) == stock);
  CHECK(done.bytes.size() == stock.size());
  CHECK(at(ramdisk_of(done.bytes.view()), "init") == noise(3000));
  return text(done.bytes.view());
}

std::string names_of(const std::string& bytes) {
  std::string out;
  for (const TailItem& item : tail_items(load(bytes).image->tail().view()))
    out += std::string(tail_name(item.kind)) + ", ";
  return out;
}

}  // namespace

TEST_CASE("tail: what stands behind a footer stays there; the footer before it is renewed") {
  const std::size_t partition = 1u << 17;
  for (const std::string& behind :
       {"SIGNATURE" + noise(700), std::string(4096, '\0'), noise(512) + std::string(512, '\0')}) {
    CAPTURE(behind.size());
    const std::string stock = footed_boot() + behind;
    const std::string now = patched_and_back(stock);
    CHECK(now.substr(partition) == behind);
    CHECK(value_of(verified::own_digest_matches(as_view(now))) == true);
    const auto footer = value_of(verified::find_footer(as_view(now)));
    REQUIRE(footer);
    CHECK(footer->end == partition);
    // Read from a source it is the same.
    const auto place = value_of(verified::find_struct(*open_memory(blob(now), "boot"), "boot"));
    REQUIRE(place);
    CHECK(place->offset == footer->vbmeta_offset);
    CHECK(names_of(stock).find("verified-boot footer, ") != std::string::npos);
  }
}

TEST_CASE("tail: magic of a footer that leads to no struct is none, as is one too far inside") {
  std::string lost = footed_boot() + std::string(600, 's');
  const auto footer = value_of(verified::find_footer(as_view(lost)));
  REQUIRE(footer);
  lost[footer->vbmeta_offset] = 'x';
  CHECK_FALSE(value_of(verified::find_footer(as_view(lost))));
  CHECK_FALSE(value_of(verified::read_footer(*open_memory(blob(lost), "boot"))));
  const std::string far = footed_boot() + std::string(verified::kBehindFooter, '\0');
  CHECK_FALSE(value_of(verified::find_footer(as_view(far))));
  CHECK_FALSE(value_of(verified::read_footer(*open_memory(blob(far), "boot"))));
  const std::string just = footed_boot() + std::string(verified::kBehindFooter - 4096, '\0');
  CHECK(value_of(verified::find_footer(as_view(just))));
  CHECK(value_of(verified::read_footer(*open_memory(blob(just), "boot"))));
}

TEST_CASE("tail: a sealed block is renewed where it was valid, and stays where it stands") {
  const std::string image = small_boot();
  std::string roomy = image;
  roomy.resize((1u << 17) - 512);
  struct One {
    std::string stock;
    std::string_view what;
  };
  const std::string footed = footed_boot();
  for (const auto& [stock, what] :
       {One{roomy + block_over(roomy), "at the end, over all before it"},
        One{roomy + block_over(image), "at the end, over the sections"},
        One{footed + block_over(footed), "behind a footer"},
        One{footed + block_over(image) + std::string(512, '\0'), "behind a footer, with more"}}) {
    CAPTURE(what);
    const auto before = sealed_block::find(as_view(stock), image.size());
    REQUIRE(before);
    CHECK(before->valid);
    const std::string now = patched_and_back(stock);
    const auto after = sealed_block::find(as_view(now), image.size());
    REQUIRE(after);
    CHECK(after->valid);
    CHECK(after->offset == before->offset);
    const std::uint64_t grown = load(now).image->sections_end() - image.size();
    CHECK(after->covered == before->covered + (before->covered == image.size() ? grown : 0));
    CHECK(names_of(now).find("sealed block, ") != std::string::npos);
  }
  // One that was not valid is left alone.
  const std::string other = roomy + block_over(noise(900));
  const std::string now = patched_and_back(other);
  CHECK(now.substr(roomy.size()) == other.substr(roomy.size()));
}

TEST_CASE("account: a sealed block with another digest, or another byte in it, is refused") {
  std::string roomy = small_boot();
  roomy.resize((1u << 17) - 512);
  const std::string stock = roomy + block_over(roomy);
  const LoadedImage loaded = load(stock);
  const auto judged = [&](const std::string& bytes) {
    Patched one{.bytes = blob(bytes)};
    return account(loaded, load(bytes), one, {}, Context{}).has_value();
  };
  CHECK(judged(stock));
  for (const std::size_t place : {8u, 48u, 100u, 511u}) {
    CAPTURE(place);
    std::string bad = stock;
    bad[roomy.size() + place] = static_cast<char>(bad[roomy.size() + place] ^ 1);
    CHECK_FALSE(judged(bad));
  }
  const std::string behind = footed_boot() + noise(300);
  std::string changed = behind;
  changed.back() = static_cast<char>(changed.back() ^ 1);
  Patched one{.bytes = blob(changed)};
  CHECK_FALSE(account(load(behind), load(changed), one, {}, Context{}));
}

TEST_CASE("account: flags that an edit meant have to stand in the struct, and no others") {
  const std::string stock = footed_boot();
  const auto footer = value_of(verified::find_footer(as_view(stock)));
  const auto judged = [&](std::uint32_t is, std::uint32_t meant) {
    std::string now = stock;
    now.replace(footer->vbmeta_offset + 120, 4, be32(is));
    Intent intent;
    intent.struct_flags = meant;
    Patched one{.bytes = blob(now)};
    return account(load(stock), load(now), one, intent, Context{}).has_value();
  };
  CHECK(judged(3, 3));
  CHECK_FALSE(judged(3, 1));
  CHECK_FALSE(judged(0, 3));  // the tail is as it was
}

TEST_CASE("sealing: what is behind footer or struct stays, and a sealed block there is renewed") {
  const auto sealed_one = [](const std::string& partition, const std::string& stock) {
    MemorySink sink;
    const OpenSink open = [&](const std::string&) -> Result<ImageSink*> { return &sink; };
    const SealOptions options{.rollback = {{.partition = partition, .value = "9"}}};
    value_of(seal_images({{partition, open_memory(blob(stock), partition)}}, options, open, {}));
    return text(sink.take().view());
  };
  std::string top = vbmeta(hash_descriptor("boot", noise(50), "salt"));
  top.resize(65536 - 512);
  for (const auto& [partition, covered] :
       {std::pair{std::string("boot"), footed_boot()}, {std::string("vbmeta"), top}}) {
    CAPTURE(partition);
    const std::string stock = covered + block_over(covered);
    const std::string now = sealed_one(partition, stock);
    CHECK(now.size() == stock.size());
    CHECK(now != stock);
    const auto block = sealed_block::find(as_view(now), covered.size());
    REQUIRE(block);
    CHECK(block->valid);
    CHECK(block->offset == covered.size());
  }
}

TEST_CASE("sealing: a partition of another size takes no bytes behind a footer or struct away") {
  const auto sealed_as = [](const std::string& partition, const std::string& stock,
                            std::uint64_t size) -> Result<std::string> {
    MemorySink sink;
    const OpenSink open = [&](const std::string&) -> Result<ImageSink*> { return &sink; };
    SealOptions options{.rollback = {{.partition = partition, .value = "9"}}};
    options.sizes[partition] = size;
    WEXLO_CHECK(seal_images({{partition, open_memory(blob(stock), partition)}}, options, open, {}));
    return text(sink.take().view());
  };
  const std::string boot = footed_boot() + noise(700);
  CHECK(sealed_as("boot", boot, 1u << 17));
  CHECK(sealed_as("boot", boot, 1u << 18).error().code == ErrorCode::DoesNotFit);
  // A struct's sealed block keeps its place where zeros come behind it.
  std::string top = vbmeta(hash_descriptor("boot", noise(50), "salt"));
  top.resize(8192 - 512);
  const std::string stock = top + block_over(top) + std::string(8192, '\0');
  for (const std::uint64_t size : {16384u, 65536u}) {
    CAPTURE(size);
    const std::string now = value_of(sealed_as("vbmeta", stock, size));
    CHECK(now.size() == size);
    const auto block = sealed_block::find(as_view(now), top.size());
    REQUIRE(block);
    CHECK(block->valid);
    CHECK(block->offset == top.size());
  }
  CHECK(sealed_as("vbmeta", stock, 8192).error().code == ErrorCode::DoesNotFit);
  // Of zeros alone the partition may have fewer.
  CHECK(value_of(sealed_as("vbmeta", padded(vbmeta(""), 16384), 8192)).size() == 8192);
}

TEST_CASE("restore: a vbmeta's flags as they were signed, with a maker's block over them") {
  std::string top = text(signed_set().images.at("vbmeta"));
  top.resize(65536 - 512);
  const std::string stock = top + block_over(top);
  const Patched done =
      value_of(patch_image(load(stock), {"vbmeta", true},
                           recipe("format = 1\nname = \"off\"\n[[edit]]\nkind = \"vbmeta-flags\"\n"
                                  "set = [\"verification-disabled\"]\n")));
  const auto block = sealed_block::find(done.bytes.view(), top.size());
  REQUIRE(block);
  CHECK(block->valid);
  const auto back = restore_image(load(text(done.bytes.view())), {}, {});
  REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
  CHECK(text(back->bytes.view()) == stock);
}
