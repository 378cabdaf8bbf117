/// Binary patches and deflate-aware ones; the usual bsdiff program is the judge of the first kind,
/// zlib the maker of all streams of the second.

#include <zlib.h>

#include "firmware/bsdiff.hpp"
#include "firmware/deflate_tokens.hpp"
#include "firmware/puffdiff.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"
#include "support/run.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

Result<std::string> patched(const std::string& patch, const std::string& before,
                            std::uint64_t most = 1u << 24) {
  std::string out;
  const OldBytes old{.size = before.size(), .read = [&](std::uint64_t at, MutableView into) {
                       std::memcpy(into.data(), before.data() + at, into.size());
                       return Status();
                     }};
  WEXLO_CHECK(apply_bsdiff(blob(patch), old, most, [&](View bytes) {
    out += text(bytes);
    return Status();
  }));
  return out;
}

std::string words(std::size_t size, std::uint32_t seed) {
  std::string out;
  for (std::uint32_t i = seed; out.size() < size; i = i * 1664525 + 1013904223)
    out += i >> 28 < 6 ? "a word that comes often " : noise(1 + (i >> 24) % 20, i);
  return out.substr(0, size);
}

/// A bare deflate stream.
std::string deflated(const std::string& data, int level, int strategy = Z_DEFAULT_STRATEGY,
                     int memory = 8) {
  z_stream stream{};
  REQUIRE(deflateInit2(&stream, level, Z_DEFLATED, -15, memory, strategy) == Z_OK);
  std::string out(data.size() + (data.size() >> 3) + 1000, '\0');
  stream.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(data.data()));
  stream.avail_in = static_cast<uInt>(data.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  REQUIRE(::deflate(&stream, Z_FINISH) == Z_STREAM_END);
  out.resize(stream.total_out);
  deflateEnd(&stream);
  return out;
}

/// By zlib, up to some hundred bytes.
std::string inflated(std::string stream) {
  std::string out(1000, '\0');
  z_stream z{};
  z.next_in = reinterpret_cast<Bytef*>(stream.data());
  z.avail_in = static_cast<uInt>(stream.size());
  z.next_out = reinterpret_cast<Bytef*>(out.data());
  z.avail_out = static_cast<uInt>(out.size());
  REQUIRE(inflateInit2(&z, -15) == Z_OK);
  CHECK(inflate(&z, Z_FINISH) == Z_STREAM_END);
  out.resize(z.total_out);
  inflateEnd(&z);
  return out;
}

Bytes tokens(const std::string& stream) {
  auto out = tokens_of_deflate(blob(stream), {0, stream.size() * 8}, 1u << 26);
  REQUIRE(out);
  return std::move(*out);
}

/// One side: bytes with one stream in them, and the same with the stream spelled out.
struct Side {
  std::string bytes, spelled, info;
  Side(const std::string& front, const std::string& stream, std::uint64_t bits,
       const std::string& back) {
    const Bytes spelled_stream = tokens_of_deflate(blob(stream), {0, bits}, 1u << 26).value();
    bytes = front + stream + back;
    // The stream's last byte may hold bits that are not its own: they are a byte of their own.
    std::string rest;
    if (bits % 8 != 0)
      rest =
          std::string(1, static_cast<char>(static_cast<unsigned char>(stream.back()) >> bits % 8));
    spelled = front + text(spelled_stream) + rest + back;
    info = proto_bytes(1, proto_number(1, front.size() * 8) + proto_number(2, bits)) +
           proto_bytes(
               2, proto_number(1, front.size() * 8) + proto_number(2, spelled_stream.size() * 8)) +
           proto_number(3, spelled.size());
  }
};

std::string puffdiff(const Side& from, const Side& to, std::uint32_t type = 0) {
  const std::string header = proto_number(1, 1) + proto_bytes(2, from.info) +
                             proto_bytes(3, to.info) + (type ? proto_number(4, type) : "");
  return "PUF1" + be32(static_cast<std::uint32_t>(header.size())) + header +
         bsdiff(from.spelled, to.spelled, std::string("\0\1\0", 3));
}

Result<std::string> puffed(const std::string& patch, const std::string& before,
                           std::uint64_t most = 1u << 24) {
  std::string out;
  WEXLO_CHECK(apply_puffdiff(blob(patch), blob(before), most, [&](View bytes) {
    out += text(bytes);
    return Status();
  }));
  return out;
}

}  // namespace

TEST_CASE("bsdiff: both forms give the new bytes") {
  const std::string before = words(200'000, 1),
                    after = before.substr(0, 150'000) + words(70'000, 2);
  CHECK(patched(bsdiff(before, after), before).value() == after);
  for (const char* kinds : {"\0\0\0", "\1\1\1", "\0\1\0"})
    CHECK(patched(bsdiff(before, after, std::string(kinds, 3)), before).value() == after);
}

TEST_CASE("bsdiff: a patch of the usual program, which seeks to and fro") {
  const TempDir dir;
  const std::string before = words(300'000, 3);
  const std::string after = before.substr(200'000) + noise(5000) + before.substr(10'000, 150'000) +
                            before.substr(0, 5000);
  write(dir / "before", before);
  write(dir / "after", after);
  REQUIRE(shell("bsdiff before after patch", dir.path().string()).exit_code == 0);
  CHECK(patched(read(dir / "patch"), before).value() == after);
  // Old bytes outside the old file count as zeros.
  CHECK(patched(read(dir / "patch"), before.substr(0, 100)).has_value());
}

TEST_CASE("bsdiff: damaged, cut and lying patches are refused") {
  const std::string before = words(5000, 4), after = words(6000, 5), good = bsdiff(before, after);
  for (std::size_t size = 0; size < good.size(); size += 7) {
    // Only the last stream's own end may be missing: all bytes are there then.
    const auto cut = patched(good.substr(0, size), before);
    if (cut) CHECK(*cut == after);
    if (size + 100 < good.size()) CHECK_FALSE(cut);
  }
  CHECK(patched("something else entirely, and long enough", before).error().code ==
        ErrorCode::BadMagic);
  CHECK(patched(good, before, 5999).error().code == ErrorCode::OutOfRange);
  for (const std::size_t at : {8u, 16u, 24u})
    for (const std::string& value :
         {le64(~std::uint64_t{0}), le64(std::uint64_t{1} << 62), le64(1u << 30)}) {
      std::string bad = good;
      bad.replace(at, 8, value);
      CHECK_FALSE(patched(bad, before));
    }
  CHECK(patched("BSDF2\7\0\0" + good.substr(8), before).error().code == ErrorCode::Unsupported);
}

TEST_CASE("deflate tokens: every stream zlib makes comes back, bit for bit") {
  for (const std::string& data : {std::string(), std::string("a"), words(100'000, 6), noise(70'000),
                                  std::string(300'000, 'z'), words(5000, 7)})
    for (int level = 0; level <= 9; ++level)
      for (const int strategy : {Z_DEFAULT_STRATEGY, Z_FIXED, Z_HUFFMAN_ONLY, Z_RLE, Z_FILTERED}) {
        const std::string stream = deflated(data, level, strategy, 1 + level % 9);
        Bytes out;
        BitWriter bits(out);
        REQUIRE(deflate_of_tokens(tokens(stream), bits));
        bits.flush();
        CHECK(text(out) == stream);
      }
}

TEST_CASE("deflate tokens: damaged streams and tokens are refused, not followed") {
  const std::string stream = deflated(words(20'000, 8), 6);
  for (std::size_t at = 0; at < stream.size(); at += 5) {
    std::string bad = stream;
    bad[at] = static_cast<char>(bad[at] ^ 0x24);
    const auto out = tokens_of_deflate(blob(bad), {0, bad.size() * 8}, 1u << 20);
    if (!out) continue;
    Bytes back;
    BitWriter bits(back);
    (void)deflate_of_tokens(*out, bits);  // whatever it is, it ends
  }
  const Bytes good = tokens(stream);
  for (std::size_t at = 0; at < good.size(); at += 11) {
    Bytes bad = good;
    bad[at] ^= std::byte{0x81};
    Bytes back;
    BitWriter bits(back);
    (void)deflate_of_tokens(bad, bits);
  }
  CHECK(tokens_of_deflate(blob(stream), {8, stream.size() * 8}, 1u << 20).error().code ==
        ErrorCode::Corrupt);
  CHECK(tokens_of_deflate(blob(stream), {0, stream.size() * 8}, 100).error().code ==
        ErrorCode::LimitExceeded);
}

TEST_CASE("deflate tokens: a repeated length needs one before it") {
  const auto block = [](unsigned first) {
    // A last block with its own codes: 257 literals, 1 distance, 19 lengths of the codes' own code,
    // of which "repeat" and "none" have one bit each.
    std::string header{char(0xc0), 0, 0, 15, 0x10, 0x01, 0, 0, 0, 0, 0, 0, 0, 0};
    header += static_cast<char>(first);
    const std::string size{0, static_cast<char>(header.size() - 1)};
    Bytes out;
    BitWriter bits(out);
    return deflate_of_tokens(as_view(size + header), bits).error().message;
  };
  CHECK(block(16).contains("repeats a length before the first"));
  CHECK_FALSE(block(0).contains("repeats"));  // it ends too early
}

TEST_CASE(
    "deflate: a length of 258 in another code's spelling says the same, and comes back in its "
    "own") {
  // Fixed codes, as they stand in the stream: a letter, a match at distance 1, the block's end.
  const auto stream = [](bool own_code) {
    Bytes out;
    BitWriter bits(out);
    const auto code = [&](unsigned value, unsigned length) {
      for (unsigned i = length; i-- > 0;)
        bits.put(value >> i & 1, 1);
    };
    bits.put(1, 1);
    bits.put(1, 2);
    code(0x30 + 'a', 8);
    code(0xc0 + (own_code ? 5 : 4), 8);
    if (!own_code) bits.put(31, 5);
    code(0, 5);
    code(0, 7);
    bits.flush();
    return text(out);
  };
  const std::string usual = stream(true), odd = stream(false);
  REQUIRE(usual != odd);
  // zlib takes both for the same letters.
  for (const std::string& one : {usual, odd})
    CHECK(inflated(one) == std::string(259, 'a'));
  CHECK(tokens(odd) == tokens(usual));
  Bytes back;
  BitWriter bits(back);
  REQUIRE(deflate_of_tokens(tokens(odd), bits));
  bits.flush();
  CHECK(text(back) == usual);
}

TEST_CASE("deflate-aware patch: from one packed file to another, whatever stands around") {
  const std::string old_text = words(60'000, 9),
                    new_text = old_text.substr(0, 30'000) + words(33'000, 10);
  for (const int level : {1, 6, 9})
    for (const int strategy : {Z_DEFAULT_STRATEGY, Z_FIXED}) {
      const std::string a = deflated(old_text, level, strategy),
                        b = deflated(new_text, level, strategy);
      const Side from("front", a, a.size() * 8, "back of the old file");
      const Side to("another front", b, b.size() * 8, "and back");
      CHECK(puffed(puffdiff(from, to), from.bytes).value() == to.bytes);
      const Side bare("", b, b.size() * 8, "");
      CHECK(puffed(puffdiff(from, bare), from.bytes).value() == bare.bytes);
    }
}

TEST_CASE("deflate-aware patch: a stream that ends inside a byte leaves its other bits alone") {
  // The last bits of a zlib stream are padding; here they are somebody else's.
  for (const std::uint32_t seed : {11u, 12u, 13u, 14u, 15u}) {
    std::string a = deflated(words(9000, seed), 6), b = deflated(words(9100, seed + 50), 6);
    const auto cut = [](std::string& stream) {
      // The stream's exact end: as many bits as its tokens give.
      Bytes out;
      BitWriter bits(out);
      REQUIRE(deflate_of_tokens(tokens(stream), bits));
      const std::uint64_t size = bits.size();
      if (size % 8 != 0)
        stream.back() = static_cast<char>(stream.back() | static_cast<char>(0xff << size % 8));
      return size;
    };
    const std::uint64_t bits_a = cut(a), bits_b = cut(b);
    const Side from("x", a, bits_a, "old"), to("yy", b, bits_b, "new");
    CHECK(puffed(puffdiff(from, to), from.bytes).value() == to.bytes);
  }
}

TEST_CASE("deflate-aware patch: lies and other kinds are refused") {
  const std::string a = deflated(words(9000, 20), 6), b = deflated(words(9000, 21), 6);
  const Side from("x", a, a.size() * 8, "o"), to("y", b, b.size() * 8, "n");
  const std::string good = puffdiff(from, to);
  REQUIRE(puffed(good, from.bytes));
  CHECK(puffed(puffdiff(from, to, 1), from.bytes).error().code == ErrorCode::Unsupported);
  CHECK_FALSE(puffed(good, from.bytes.substr(1)));
  CHECK_FALSE(puffed(good, from.bytes, to.bytes.size() - 1));
  CHECK(puffed("PUFX", from.bytes).error().code == ErrorCode::BadMagic);
  for (std::size_t size = 4; size < good.size(); size += 31)
    CHECK_FALSE(puffed(good.substr(0, size), from.bytes));
  for (std::size_t at = 8; at < 60; ++at) {
    std::string bad = good;
    bad[at] = static_cast<char>(bad[at] ^ 1);
    // What its numbers say is all there is: the image's digest judges what comes out of it.
    if (const auto out = puffed(bad, from.bytes)) CHECK(out->size() <= 1u << 24);
  }
}
