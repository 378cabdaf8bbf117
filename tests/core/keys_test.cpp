/// Keys in every form, structs as they are written, the older signature.

#include <algorithm>

#include "base/digest.hpp"
#include "seal/seal.hpp"
#include "support/check.hpp"
#include "support/signed_set.hpp"
#include "support/vbmeta.hpp"
#include "verified/kept_signer.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("keys: a blob's numbers are exact, and every other form is refused") {
  const Bytes blob = signer(KeyOf::Root).public_key();
  CHECK(blob.size() == 520);
  CHECK(verified::key_bits(blob) == 2048);
  // n0inv * n == -1 modulo 2^32
  const auto n0inv = load<std::uint32_t, std::endian::big>(blob.data() + 4);
  const auto n = load<std::uint32_t, std::endian::big>(blob.data() + 8 + 252);
  CHECK(static_cast<std::uint32_t>(n0inv * n) == 0xffffffffu);
  const std::string pem = verified::public_key_pem(blob);
  CHECK(value_of(verified::read_public_key(as_view(pem))) == blob);
  CHECK(value_of(verified::read_public_key(as_view(private_pem(KeyOf::Root)))) == blob);
  for (const std::size_t at : {3u, 7u, 100u, 519u}) {
    Bytes wrong = blob;
    wrong[at] ^= std::byte{1};
    CHECK(verified::key_bits(wrong) == 0);
    CHECK_FALSE(verified::read_public_key(wrong));
  }
  CHECK_FALSE(verified::read_public_key(View(blob).first(519)));
  CHECK(verified::signer_of("no key").error().code == ErrorCode::BadValue);
  CHECK(verified::new_private_key(1024).error().code == ErrorCode::Usage);
}

TEST_CASE("keys: each algorithm of the format signs, and only with its own key") {
  for (const unsigned bits : {2048u, 4096u}) {
    const auto made = value_of(verified::signer_of(value_of(verified::new_private_key(bits))));
    for (const DigestKind kind : {DigestKind::Sha256, DigestKind::Sha512}) {
      const auto algorithm = verified::algorithm_for(kind, bits);
      REQUIRE(algorithm);
      const Bytes bytes = value_of(verified::write_struct(verified::new_draft(), made.get(), kind));
      const Image image = value_of(verified::parse_vbmeta(Blob(bytes)));
      CHECK(image.number("algorithm_type") == algorithm->id);
      CHECK(image.number("signature_size") == bits / 8);
      CHECK(image.number("authentication_data_block_size") ==
            align_up(digest_size(kind) + bits / 8, 64));
      CHECK(verified::signature_state(image) == verified::SignatureState::Holds);
      Bytes wrong = bytes;
      wrong[256 + digest_size(kind) + 9] ^= std::byte{4};
      CHECK(verified::signature_state(value_of(verified::parse_vbmeta(Blob(wrong)))) ==
            verified::SignatureState::Bad);
    }
  }
  CHECK_FALSE(verified::algorithm_for(DigestKind::Sha1, 2048));
}

TEST_CASE("structs: what is not changed keeps its bytes") {
  // Put together by hand, in an order and with bytes that no writer of ours makes.
  const std::string raw =
      vbmeta(property_descriptor("a.b", "c") + raw_descriptor(77, std::string(24, 'u')) +
                 hash_descriptor("boot", "image", "salt") + hashtree_descriptor("system") +
                 cmdline_descriptor(1, "x=y") + chain_descriptor("vbmeta_system", 2, "key"),
             2);
  Bytes bytes = to_bytes(raw);
  bytes[200] = std::byte{0x5a};  // reserved
  const Image image = value_of(verified::parse_vbmeta(Blob(bytes)));
  const verified::Draft draft = value_of(verified::draft_of(image));
  CHECK(draft.descriptors.size() == 6);
  const Bytes again = value_of(verified::write_struct(draft, nullptr, DigestKind::Sha256));
  check_same(again, View(bytes).first(image.sections_end()));

  verified::Draft changed = draft;
  changed.set_property("a.b", "d");
  changed.set_property("new", "one");
  changed.set_rollback_index(9);
  const Image after = value_of(verified::parse_vbmeta(
      Blob(value_of(verified::write_struct(changed, nullptr, DigestKind::Sha256)))));
  CHECK(after.number("rollback_index") == 9);
  CHECK(after.number("flags") == 2);
  CHECK(std::to_integer<int>(after.header()[200]) == 0x5a);
  const verified::Draft back = value_of(verified::draft_of(after));
  REQUIRE(back.descriptors.size() == 7);
  for (const std::size_t i : {1u, 2u, 3u, 4u, 5u})
    check_same(back.descriptors[i], draft.descriptors[i]);
}

TEST_CASE("structs: encoding a descriptor gives the bytes it was read from") {
  for (const std::string& raw :
       {property_descriptor("key", "value"), hash_descriptor("boot", "image", "salt"),
        hashtree_descriptor("system"), cmdline_descriptor(2, "a b"),
        chain_descriptor("boot", 3, std::string(520, 'k'))}) {
    const auto parsed = value_of(verified::parse_descriptors(as_view(raw), 0));
    REQUIRE(parsed.size() == 1);
    check_same(verified::encode_descriptor(parsed.front().value, as_view(raw)), as_view(raw));
  }
}

TEST_CASE("older signature: made, verified, spoilt, taken out") {
  const Bytes image = to_bytes(noise(8192, 20));
  const Bytes made =
      value_of(verified::make_older_signature(image, "/boot", private_pem(KeyOf::Stranger), ""));
  const auto found = verified::older_signature(made, image);
  REQUIRE(found);
  CHECK(found->holds);
  CHECK(found->target == "/boot");
  CHECK(found->length == image.size());
  CHECK(found->size == made.size());
  CHECK(found->algorithm == "sha256-rsa2048");
  CHECK(value_of(verified::make_older_signature(image, "/boot", private_pem(KeyOf::Stranger),
                                                "")) == made);
  Bytes other = image;
  other[9] ^= std::byte{1};
  CHECK_FALSE(verified::older_signature(made, other)->holds);
  Bytes renamed = made;
  const auto at = std::ranges::search(renamed, as_view("/boot")).begin();
  at[1] = std::byte{'r'};
  CHECK_FALSE(verified::older_signature(renamed, image)->holds);
  for (std::size_t size = 0; size < made.size(); size += 13)
    CHECK_FALSE(verified::older_signature(View(made).first(size), image));
  // A list (four bytes of tag and length) that begins with the number of its form.
  Bytes newer = made;
  REQUIRE(newer[4] == std::byte{2});
  REQUIRE(newer[6] == std::byte{1});
  newer[6] = std::byte{2};
  CHECK_FALSE(verified::older_signature(newer, image));
}

TEST_CASE("structs: what is covered without a slot's suffix needs a reader that knows it") {
  const auto minor = [](std::uint32_t flags) {
    verified::Draft draft = verified::new_draft();
    draft.set_claim(verified::HashDescriptor{.partition = "boot",
                                             .hash_algorithm = "sha256",
                                             .image_size = 4096,
                                             .flags = flags,
                                             .salt = {},
                                             .digest = Bytes(32)});
    const Bytes bytes = value_of(verified::write_struct(draft, nullptr, DigestKind::Sha256));
    return value_of(verified::parse_vbmeta(Blob(bytes))).number("required_version_minor");
  };
  CHECK(minor(0) == 0);
  CHECK(minor(1) == 1);
  CHECK(minor(2) == 1);
}

TEST_CASE("keys: a signature of another length, or of no sense, never holds") {
  const Bytes digest(32, std::byte{7});
  const Bytes good = value_of(signer(KeyOf::Root).sign(DigestKind::Sha256, digest));
  const Bytes& blob = signer(KeyOf::Root).public_key();
  const auto holds = [&](const Bytes& key, View signature, View of) {
    return verified::signature_holds(key, DigestKind::Sha256, of, signature);
  };
  CHECK(holds(blob, good, digest));
  Bytes longer = good;
  longer.push_back(std::byte{0});
  CHECK_FALSE(holds(blob, longer, digest));
  CHECK_FALSE(holds(blob, View(good).first(255), digest));
  CHECK_FALSE(holds(blob, {}, digest));
  CHECK_FALSE(holds(blob, Bytes(256, std::byte{0xff}), digest));  // above the modulus
  CHECK_FALSE(holds(blob, good, View(digest).first(31)));
  CHECK_FALSE(holds(blob, good, {}));
  for (const std::size_t size : {0u, 4u, 7u})
    CHECK_FALSE(
        holds(Bytes(blob.begin(), blob.begin() + static_cast<std::ptrdiff_t>(size)), good, digest));
}

TEST_CASE("keys: what was signed once is signed again without the key, and nothing else is") {
  const SignedSet set = signed_set();
  std::vector<Image> structs;
  structs.push_back(value_of(verified::parse_vbmeta(Blob(Bytes(set.images.at("vbmeta"))))));
  auto boot = value_of(verified::own_struct(set.images.at("boot")));
  REQUIRE(boot);
  structs.push_back(std::move(*boot));
  for (const KeyOf whose : {KeyOf::Root, KeyOf::Boot}) {
    const Bytes& blob = signer(whose).public_key();
    const auto kept = verified::kept_signer(structs, sha256_hex(blob));
    REQUIRE(kept);
    CHECK(kept->public_key() == blob);
    // The same struct by both ways: every byte.
    const verified::Draft& draft = whose == KeyOf::Root ? set.top : set.boot;
    const Bytes real = value_of(verified::write_struct(draft, &signer(whose), DigestKind::Sha256));
    CHECK(value_of(verified::write_struct(draft, kept.get(), DigestKind::Sha256)) == real);
    verified::Draft other = draft;
    other.header[130] ^= std::byte{1};
    CHECK(verified::write_struct(other, kept.get(), DigestKind::Sha256).error().code ==
          ErrorCode::BadSignature);
    CHECK(kept->sign(DigestKind::Sha512, Bytes(64)).error().code == ErrorCode::BadSignature);
  }
  CHECK(verified::kept_signer(structs, sha256_hex(signer(KeyOf::Stranger).public_key())) ==
        nullptr);
  CHECK(verified::kept_signer({}, "") == nullptr);
}
