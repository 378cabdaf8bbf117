#include "codec/codec.hpp"

#include "support/bytes.hpp"
#include "support/check.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

struct Sample {
  Compression kind;
  std::string (*make)(const std::string&);
};
const Sample kSamples[] = {
    {Compression::Gzip, [](const std::string& s) { return test::gzip(s); }},
    {Compression::Lz4Legacy, [](const std::string& s) { return test::lz4_legacy(s); }},
    {Compression::Xz, [](const std::string& s) { return test::xz(s); }},
    {Compression::Bzip2, [](const std::string& s) { return test::bzip2(s); }},
    {Compression::Lz4Frame, [](const std::string& s) { return test::lz4_frame(s); }},
    {Compression::Lzma, [](const std::string& s) { return test::lzma(s); }},
    {Compression::Zstd, [](const std::string& s) { return test::zstd(s); }},
};

std::string content() {
  std::string out;
  for (int i = 0; i < 3000; ++i)
    out += "line " + std::to_string(i * 7919) + "\n";
  return out + noise(5000);
}

/// Feeds a decoder in pieces, as a stream does.
Result<std::string> in_pieces(Compression kind, const std::string& in, std::size_t piece) {
  const auto decoder = make_decoder(kind);
  std::string out;
  std::size_t at = 0;
  Bytes room(777);
  for (int guard = 0; guard < 1'000'000; ++guard) {
    const View next = as_view(in).subspan(at, std::min(piece, in.size() - at));
    WEXLO_TRY(const auto step, decoder->step(next, room, at + next.size() == in.size()));
    at += step.consumed;
    out += text(View(room).first(step.produced));
    if (step.done) return out;
  }
  return fail({.code = ErrorCode::Corrupt, .message = "it never ended"});
}

}  // namespace

TEST_CASE("codec: each format is told by its first bytes and decodes") {
  for (const Sample& sample : kSamples) {
    CAPTURE(compression_name(sample.kind));
    const std::string packed = sample.make(content());
    CHECK(detect_compression(as_view(packed)) == sample.kind);
    CHECK(compression_named(compression_name(sample.kind)) == sample.kind);
    const auto decoded = decode(sample.kind, as_view(packed), {.bytes = 1u << 20});
    REQUIRE(decoded);
    CHECK(decoded->consumed == packed.size());
    check_same(decoded->bytes, as_view(content()));
  }
  CHECK_FALSE(detect_compression(as_view("070701")));
  CHECK_FALSE(detect_compression({}));
}

TEST_CASE("codec: what encodes decodes again, and twice the same") {
  for (const Sample& sample : kSamples) {
    CAPTURE(compression_name(sample.kind));
    for (const std::string& data :
         {content(), std::string(), std::string("x"), std::string(100000, '\0')}) {
      if (data.empty() && sample.kind == Compression::Lz4Legacy) continue;  // it has no empty form
      const auto packed = encode(sample.kind, as_view(data));
      REQUIRE(packed);
      CHECK(*encode(sample.kind, as_view(data)) == *packed);
      const auto decoded = decode(sample.kind, *packed, {.bytes = 1u << 20});
      REQUIRE(decoded);
      check_same(decoded->bytes, as_view(data));
    }
  }
}

TEST_CASE("codec: a stream fed in small pieces gives the same bytes") {
  for (const Sample& sample : kSamples)
    for (const std::size_t piece : {1u, 13u, 4096u}) {
      CAPTURE(compression_name(sample.kind));
      CAPTURE(piece);
      const auto out = in_pieces(sample.kind, sample.make(content()), piece);
      REQUIRE(out);
      CHECK(*out == content());
    }
}

TEST_CASE("codec: every shorter prefix is an error, and never a crash") {
  const std::string small = "some words, some words, and some more words";
  for (const Sample& sample : kSamples) {
    const std::string packed = sample.make(small);
    for (std::size_t size = 0; size < packed.size(); ++size) {
      CAPTURE(compression_name(sample.kind));
      CAPTURE(size);
      CHECK_FALSE(decode(sample.kind, as_view(packed).first(size), {.bytes = 1u << 20}));
    }
  }
}

TEST_CASE("codec: flipped bytes are refused or decode, within the limit") {
  for (const Sample& sample : kSamples) {
    std::string packed = sample.make(content());
    for (std::size_t at = 0; at < packed.size(); at += 1 + packed.size() / 300) {
      packed[at] = static_cast<char>(packed[at] ^ 0x5a);
      if (const auto decoded = decode(sample.kind, as_view(packed), {.bytes = 1u << 20}))
        CHECK(decoded->bytes.size() <= 1u << 20);
      packed[at] = static_cast<char>(packed[at] ^ 0x5a);
    }
  }
}

TEST_CASE("codec: output beyond the limit is refused") {
  for (const Sample& sample : kSamples) {
    const auto bomb =
        decode(sample.kind, as_view(sample.make(std::string(4u << 20, 'a'))), {.bytes = 1u << 20});
    REQUIRE_FALSE(bomb);
    CHECK(bomb.error().code == ErrorCode::LimitExceeded);
  }
}

TEST_CASE("codec: bytes behind a stream are left to the caller") {
  for (const Sample& sample : kSamples) {
    CAPTURE(compression_name(sample.kind));
    const std::string packed = sample.make(content());
    for (const std::string& behind : {std::string(100, '\0'), std::string("\0\0\0\0tail", 8)}) {
      const auto decoded = decode(sample.kind, as_view(packed + behind), {.bytes = 1u << 20});
      REQUIRE(decoded);
      CHECK(decoded->consumed == packed.size());
    }
  }
}

TEST_CASE("lz4 legacy: the trailing size some makers write belongs to the stream") {
  const std::string packed = test::lz4_legacy(content(), true);
  const auto decoded = decode(Compression::Lz4Legacy, as_view(packed), {.bytes = 1u << 20});
  REQUIRE(decoded);
  CHECK(decoded->consumed == packed.size());
  const Framing framing = framing_of(Compression::Lz4Legacy, as_view(packed), content().size());
  CHECK(framing.size_trailer);
  const auto again = encode(Compression::Lz4Legacy, as_view(content()), framing);
  REQUIRE(again);
  CHECK(text(View(*again).last(4)) == le32(static_cast<std::uint32_t>(content().size())));
  CHECK_FALSE(
      framing_of(Compression::Lz4Legacy, as_view(test::lz4_legacy(content())), content().size())
          .size_trailer);
}

TEST_CASE("lz4 legacy: content of more than one block, and of exactly one") {
  for (const std::size_t size : {(8u << 20) + 1000u, 8u << 20, 16u << 20}) {
    const std::string data = std::string(size, 'x');
    for (const bool trailer : {false, true}) {
      const std::string packed = test::lz4_legacy(data, trailer);
      const auto decoded = decode(Compression::Lz4Legacy, as_view(packed + std::string(8, '\0')),
                                  {.bytes = 64u << 20});
      REQUIRE(decoded);
      CHECK(decoded->bytes.size() == size);
      CHECK(decoded->consumed == packed.size());
    }
    const auto ours = encode(Compression::Lz4Legacy, as_view(data));
    CHECK(decode(Compression::Lz4Legacy, *ours, {.bytes = 64u << 20})->bytes.size() == size);
  }
}

TEST_CASE("gzip: the stock member's header is carried over") {
  std::string named = test::gzip("old");
  named[3] = 8;  // a name follows the fixed header
  named.insert(10, std::string("ramdisk.cpio\0", 13));
  named[4] = 0x11;  // a time
  const Framing framing = framing_of(Compression::Gzip, as_view(named), 3);
  CHECK(framing.header.size() == 23);
  const auto packed = encode(Compression::Gzip, as_view("new content"), framing);
  CHECK(text(View(*packed).first(23)) == named.substr(0, 23));
  CHECK(text(decode(Compression::Gzip, *packed, {.bytes = 100})->bytes) == "new content");
}

TEST_CASE("xz: the stock stream's check is carried over") {
  for (const bool crc32 : {true, false}) {
    const std::string stock = test::xz("old", crc32);
    const auto packed =
        encode(Compression::Xz, as_view("new"), framing_of(Compression::Xz, as_view(stock), 3));
    CHECK(text(View(*packed).first(8)) == stock.substr(0, 8));
  }
}

TEST_CASE("codec: by default a large stream gives at most 300 times its size") {
  constexpr std::size_t kFrom = 64u << 20;
  for (const Sample& sample : kSamples) {
    CAPTURE(compression_name(sample.kind));
    // The rule is the same for all; these streams are quick to make.
    if (sample.kind != Compression::Gzip && sample.kind != Compression::Zstd) continue;
    const auto just = decode(sample.kind, as_view(sample.make(std::string(kFrom, '\0'))));
    CHECK(just.has_value());
    const auto more =
        decode(sample.kind, as_view(sample.make(std::string(kFrom + (9u << 20), '\0'))));
    REQUIRE_FALSE(more);
    CHECK(more.error().code == ErrorCode::LimitExceeded);
    CHECK(more.error().expected.starts_with("at most 300 times"));
  }
}

TEST_CASE("codec: what is decoded at a time is bounded together") {
  const std::string packed = test::gzip(std::string(16u << 20, 'a'));
  const auto held = std::make_shared<HeldBytes>(64u << 20);
  const auto another = [&] { return decode(Compression::Gzip, as_view(packed), {.held = held}); };
  {
    std::vector<Decoded> kept;
    auto next = another();
    for (; next && kept.size() < 5; next = another())
      kept.push_back(std::move(*next));
    REQUIRE_FALSE(next);
    CHECK(next.error().code == ErrorCode::LimitExceeded);
    CHECK(kept.size() >= 2);
  }
  CHECK(another());  // what nobody holds any longer does not count
}

TEST_CASE("lz4 legacy: a stream of joined ones keeps no block by its number") {
  constexpr std::size_t kBlock = 8u << 20;
  // Two streams, one behind the other, are one to a decoder; the short block of the first stands
  // where a whole one would be expected.
  const std::string one = noise(100000, 1), two(kBlock + 5, 'b');
  const std::string stock = test::lz4_legacy(one) + test::lz4_legacy(two);
  const std::string decoded = one + two;
  for (const std::string& now :
       {decoded, one + std::string(kBlock + 5, 'c'), std::string("x") + decoded}) {
    const auto packed =
        encode(Compression::Lz4Legacy, as_view(now), {}, {}, {as_view(stock), as_view(decoded)});
    REQUIRE(packed);
    const auto back = decode(Compression::Lz4Legacy, *packed, {.bytes = 64u << 20});
    REQUIRE(back);
    check_same(back->bytes, as_view(now));
  }
  // One stream with a short block in front: its blocks are not where their numbers say.
  const std::string odd = test::lz4_block(one, 3) + test::lz4_block(two, 3).substr(4);
  const auto again =
      encode(Compression::Lz4Legacy, as_view(decoded), {}, {}, {as_view(odd), as_view(decoded)});
  REQUIRE(again);
  check_same(decode(Compression::Lz4Legacy, *again, {.bytes = 64u << 20})->bytes, as_view(decoded));
  // Of a single stream, blocks that did not change keep their bytes, and others do not.
  const std::string plain = std::string(kBlock, 'a') + noise(1000, 3);
  const std::string single = test::lz4_block(plain.substr(0, kBlock), 3) +
                             test::lz4_block(plain.substr(kBlock), 3).substr(4);
  std::string changed = plain;
  changed.back() = static_cast<char>(changed.back() ^ 1);
  // A stock stream that is cut short has no block to take. (Bytes of its own: behind a mere view
  // the missing ones would still stand.)
  const std::string short_one(single, 0, single.size() - 100);
  const auto cut =
      encode(Compression::Lz4Legacy, as_view(plain), {}, {}, {as_view(short_one), as_view(plain)});
  REQUIRE(cut);
  check_same(decode(Compression::Lz4Legacy, *cut, {.bytes = 64u << 20})->bytes, as_view(plain));
  const auto kept =
      encode(Compression::Lz4Legacy, as_view(changed), {}, {}, {as_view(single), as_view(plain)});
  REQUIRE(kept);
  const std::size_t first_block = test::lz4_block(plain.substr(0, kBlock), 3).size();
  check_same(View(*kept).first(first_block), as_view(single).first(first_block));
  check_same(decode(Compression::Lz4Legacy, *kept, {.bytes = 64u << 20})->bytes, as_view(changed));
}

TEST_CASE("gzip: of a large stream with more behind it only the stream is taken") {
  // Large when packed, too: a small one is never taken whole.
  const std::string whole = noise(3u << 20), packed = test::gzip(whole);
  REQUIRE(packed.size() > 1u << 20);
  // The last word of the file says the size that comes out, as a trailer does.
  for (const std::string& behind : {le32(3u << 20), std::string(4, '\0') + le32(3u << 20)}) {
    const auto decoded = decode(Compression::Gzip, as_view(packed + behind), {.bytes = 1u << 24});
    REQUIRE(decoded);
    CHECK(decoded->consumed == packed.size());
    check_same(decoded->bytes, as_view(whole));
  }
  // A trailer that says more than the bound allows is not asked for memory.
  const auto over = decode(Compression::Gzip, as_view(packed), {.bytes = (3u << 20) - 1});
  REQUIRE_FALSE(over);
  CHECK(over.error().code == ErrorCode::LimitExceeded);
  CHECK(decode(Compression::Gzip, as_view(packed), {.bytes = 3u << 20}));
  CHECK(framing_of(Compression::Gzip, as_view(packed).first(10), 0).header.size() == 10);
}

TEST_CASE("lz4 legacy: another magic is refused, a device tree behind the stream is not of it") {
  const std::string packed = test::lz4_legacy(content());
  std::string other = packed;
  other[0] = static_cast<char>(other[0] ^ 1);
  const auto refused = decode(Compression::Lz4Legacy, as_view(other), {.bytes = 1u << 20});
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::Corrupt);
  // With and without the word of the size in all, which belongs to the stream.
  for (const bool sized : {false, true})
    for (const std::string& rest : {std::string(), std::string(36, 't')}) {
      const std::string stream = test::lz4_legacy(content(), sized);
      const auto decoded = decode(Compression::Lz4Legacy, as_view(stream + be32(0xd00dfeed) + rest),
                                  {.bytes = 1u << 20});
      REQUIRE(decoded);
      CHECK(decoded->consumed == stream.size());
    }
}
