/// Images sealed again, hash trees checked and repaired.

#include <algorithm>

#include "seal/seal.hpp"
#include "support/check.hpp"
#include "support/signed_set.hpp"
#include "support/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;
using verified::HashtreeDescriptor;

namespace {

HashtreeDescriptor tree_of(const SignedSet& set) {
  for (const verified::Descriptor& one : set.top.parsed())
    if (const auto* tree = std::get_if<HashtreeDescriptor>(&one.value)) return *tree;
  FAIL("no hash tree");
  return {};
}

SourcePtr source_over(const Bytes& bytes) {
  return open_memory(Blob(bytes), "image");
}

/// Seals images in memory.
std::map<std::string, Bytes> sealed(const std::map<std::string, Bytes>& images,
                                    const SealOptions& options, Sealed* told = nullptr) {
  std::vector<SealInput> inputs;
  for (const auto& [name, bytes] : images)
    inputs.push_back({name, source_over(bytes)});
  std::map<std::string, MemorySink> sinks;
  const OpenSink open = [&](const std::string& name) -> Result<ImageSink*> { return &sinks[name]; };
  Sealed result = value_of(seal_images(inputs, options, open, {}));
  if (told != nullptr) *told = std::move(result);
  std::map<std::string, Bytes> out;
  for (auto& [name, sink] : sinks)
    out[name] = to_bytes(sink.take().view());
  return out;
}

verified::SignerPtr shared(KeyOf whose) {
  return value_of(verified::signer_of(private_pem(whose)));
}

}  // namespace

TEST_CASE("sealing: the same input gives the same bytes, and sealing twice changes nothing") {
  const SignedSet set = signed_set();
  const SealOptions options{.signer = shared(KeyOf::Root)};
  const auto once = sealed(set.images, options);
  CHECK(sealed(set.images, options) == once);
  CHECK(sealed(once, options) == once);
  // Signed with the key that it was signed with already: vbmeta alone is as it was.
  const auto alone = sealed({{"vbmeta", set.images.at("vbmeta")}}, options);
  check_same(alone.at("vbmeta"), set.images.at("vbmeta"));
}

TEST_CASE("sealing: a changed set is valid again, with another key") {
  SignedSet set = signed_set();
  for (const char* name : {"boot", "init_boot", "system"})
    set.at(name)[4100] ^= std::byte{0xff};
  CHECK_FALSE(set.walk().locked_starts());
  Sealed told;
  set.images = sealed(set.images, {.signer = shared(KeyOf::Stranger)}, &told);
  verified::WalkOptions options{.find = {},
                                .suffix = {},
                                .root_key = signer(KeyOf::Stranger).public_key(),
                                .rollback = {},
                                .look = verified::Look::Trees};
  options.find = [&](const std::string& name) -> Result<SourcePtr> {
    return set.images.contains(name) ? source_over(set.at(name)) : nullptr;
  };
  const auto walk = value_of(verified::walk_chain(options, {}));
  for (const auto& fault : walk.faults)
    MESSAGE(fault.message);
  CHECK(walk.faults.empty());
  CHECK(told.findings.empty());
  // What nobody asked to change: salts, rollback indexes, properties.
  CHECK(walk.structs[0].rollback_index == kRollback);
  CHECK(walk.structs[0].properties.size() == 1);
  CHECK(walk.structs[1].partition == "boot");
  // The image's own struct was unsigned, and stays so next to the digest in vbmeta.
  const auto state = value_of(footer_state(*source_over(set.at("init_boot"))));
  CHECK_FALSE(state.was_signed);
}

TEST_CASE("sealing: without a key a changed struct is unsigned, and that is said") {
  SignedSet set = signed_set();
  Sealed told;
  set.images = sealed(set.images, {}, &told);
  CHECK(told.findings.size() >= 2);
  const auto walk = set.walk();
  CHECK_FALSE(walk.locked_starts());
  CHECK(walk.unlocked_starts());
}

TEST_CASE("sealing: what does not fit, or was not told, is refused") {
  const Bytes image = to_bytes(noise(40000, 9));
  const auto attempt = [&](const SealOptions& options) {
    MemorySink sink;
    const OpenSink open = [&](const std::string&) -> Result<ImageSink*> { return &sink; };
    return seal_images({{"dtbo", source_over(image)}}, options, open, {});
  };
  CHECK(attempt({}).error().code == ErrorCode::Usage);
  CHECK(attempt({.sizes = {{"", 45056}}}).error().code == ErrorCode::DoesNotFit);
  CHECK(attempt({.sizes = {{"", 65537}}}).error().code == ErrorCode::Usage);
  CHECK(attempt({.sizes = {{"boot", 65536}}}).error().code == ErrorCode::Usage);
  CHECK(attempt({.sizes = {{"", 65536}}, .algorithm = "sha1"}).error().code ==
        ErrorCode::Unsupported);
  CHECK(attempt({.sizes = {{"", 65536}}}));
  CHECK(attempt({.sizes = {{"", 1 << 20}}, .kind = FooterKind::Tree}));
}

TEST_CASE("hash trees: the first bad block is named, and repaired") {
  const SignedSet set = signed_set();
  const HashtreeDescriptor tree = tree_of(set);
  const Bytes& good = set.images.at("system");
  for (const std::vector<std::uint64_t>& spoilt :
       {std::vector<std::uint64_t>{17}, {3, 90}, {0, 149}, {151}, {150}}) {
    Bytes bad = good;
    for (const std::uint64_t block : spoilt)
      bad[block * 4096 + 77] ^= std::byte{0x11};
    const auto source = source_over(bad);
    const auto found = value_of(verified::check_tree(*source, tree, {.jobs = 2}));
    CAPTURE(spoilt.front());
    CHECK_FALSE(found.holds());
    const std::uint64_t first = *std::ranges::min_element(spoilt);
    if (first < 150) CHECK(found.first.front().offset == first * 4096);
    Bytes repaired = bad;
    for (const auto& one : value_of(verified::repair_blocks(*source, tree, found, {})))
      std::ranges::copy(one.bytes, repaired.begin() + static_cast<std::ptrdiff_t>(one.offset));
    check_same(repaired, good);
  }
  // Three blocks of one codeword are one more than two roots give again.
  Bytes bad = good;
  for (const std::uint64_t block : {1u, 2u, 3u})
    bad[block * 4096] ^= std::byte{1};
  const auto source = source_over(bad);
  const auto found = value_of(verified::check_tree(*source, tree, {}));
  CHECK(found.bad_blocks == 3);
  CHECK(verified::repair_blocks(*source, tree, found, {}).error().code == ErrorCode::NoMatch);
}

TEST_CASE("hash trees: numbers that lie are refused before anything is read") {
  const SignedSet set = signed_set();
  const auto source = source_over(set.images.at("system"));
  const HashtreeDescriptor good = tree_of(set);
  const auto wrong = [&](auto change) {
    HashtreeDescriptor tree = good;
    change(tree);
    return !verified::check_tree(*source, tree, {});
  };
  CHECK(wrong([](auto& t) { t.image_size = 1ull << 60; }));
  CHECK(wrong([](auto& t) { t.image_size = 0; }));
  CHECK(wrong([](auto& t) { t.tree_offset = ~0ull; }));
  CHECK(wrong([](auto& t) { t.tree_size += 4096; }));
  CHECK(wrong([](auto& t) { t.data_block_size = 0; }));
  CHECK(wrong([](auto& t) { t.hash_block_size = 4095; }));
  CHECK(wrong([](auto& t) { t.root_digest.resize(20); }));
  CHECK(wrong([](auto& t) { t.hash_algorithm = "md5"; }));
  CHECK(wrong([](auto& t) { t.dm_verity_version = 0; }));
  const auto wrong_codes = [&](auto change) {
    HashtreeDescriptor tree = good;
    change(tree);
    const auto found = verified::check_fec(*source, tree, {});
    return found ? ErrorCode::Internal : found.error().code;
  };
  REQUIRE(verified::check_fec(*source, good, {}));
  for (const unsigned roots : {0u, 1u, 25u, 200u})
    CHECK(wrong_codes([&](auto& t) { t.fec_num_roots = roots; }) == ErrorCode::Unsupported);
  CHECK(wrong_codes([](auto& t) { t.fec_offset += 4096; }) == ErrorCode::BadValue);
  CHECK(wrong_codes([](auto& t) { t.fec_size -= 4096; }) == ErrorCode::BadValue);
  CHECK(wrong_codes([](auto& t) { t.data_block_size = 8192; }) == ErrorCode::Unsupported);
  CHECK(wrong_codes([](auto& t) { t.hash_block_size = 8192; }) == ErrorCode::Unsupported);
}

TEST_CASE("hash trees: error correction takes two blocks for each 253, begun or whole") {
  constexpr std::uint64_t kBlock = 4096;
  const std::pair<std::uint64_t, std::uint64_t> sizes[] = {{1, 2},   {252, 2}, {253, 2}, {254, 4},
                                                           {505, 4}, {506, 4}, {507, 6}};
  for (const auto& [blocks, parity] : sizes) {
    CAPTURE(blocks);
    CHECK(verified::fec_size(blocks * kBlock, 2) == parity * kBlock);
  }
  CHECK(verified::fec_size(231 * kBlock, 24) == 24 * kBlock);
  CHECK(verified::fec_size(232 * kBlock, 24) == 48 * kBlock);
}

TEST_CASE("seal: the smallest partition that a footer, or a hash tree, fits into") {
  const auto fits = [](FooterKind kind, std::size_t blocks, std::uint64_t size) {
    const Bytes image = to_bytes(noise(blocks * 4096));
    SealOptions options;
    options.kind = kind;
    options.sizes = {{"system", size}};
    options.fec_roots = 0;
    std::map<std::string, MemorySink> sinks;
    const OpenSink open = [&](const std::string& name) -> Result<ImageSink*> {
      return &sinks[name];
    };
    const auto sealed = seal_images({{"system", source_over(image)}}, options, open, {});
    if (!sealed) CHECK(sealed.error().code == ErrorCode::DoesNotFit);
    return sealed.has_value();
  };
  // A struct and a footer take a block each; a tree over five blocks one, over 129 three.
  for (const auto& [kind, blocks, least] : {std::tuple{FooterKind::Hash, 5u, 7u},
                                            {FooterKind::Tree, 5u, 8u},
                                            {FooterKind::Tree, 129u, 134u}}) {
    CAPTURE(blocks);
    CAPTURE(least);
    CHECK(fits(kind, blocks, least * 4096));
    CHECK_FALSE(fits(kind, blocks, (least - 1) * 4096));
  }
}

TEST_CASE("footers: a partition that is a footer and nothing else") {
  const Bytes alone = verified::write_footer({0, 0, 0});
  REQUIRE(alone.size() == 64);
  CHECK(value_of(verified::find_footer(alone)).has_value());
  CHECK_FALSE(value_of(verified::find_footer(View(alone).subspan(1))).has_value());
  CHECK(value_of(verified::find_struct(*source_over(alone), "boot")).has_value());
  CHECK_FALSE(
      value_of(verified::find_struct(*source_over(Bytes(alone.begin() + 1, alone.end())), "boot"))
          .has_value());
}

TEST_CASE("sealing: a struct keeps its flags, and the key that it chains is the one that signed") {
  for (const std::uint32_t flags : {0u, 1u, 2u, 3u}) {
    CAPTURE(flags);
    SignedSet set = signed_set();
    set.top.set_flags(flags);
    set.write_top();
    set.at("boot")[4100] ^= std::byte{0xff};
    // boot and the struct that chains it, in one call.
    const auto out = sealed({{"boot", set.at("boot")}, {"vbmeta", set.at("vbmeta")}},
                            {.signer = shared(KeyOf::Stranger)});
    const Image top = value_of(verified::parse_vbmeta(Blob(out.at("vbmeta"))));
    CHECK(top.number("flags") == flags);
    CHECK(verified::public_key_of(top).size() == 520);
    bool chained = false;
    for (const verified::Descriptor& one : value_of(verified::descriptors(top)))
      if (const auto* chain = std::get_if<verified::ChainDescriptor>(&one.value)) {
        CHECK(chain->partition == "boot");
        CHECK(chain->public_key == signer(KeyOf::Stranger).public_key());
        chained = true;
      }
    CHECK(chained);
  }
}
