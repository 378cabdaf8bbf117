#include "codec/settings.hpp"

#include "support/check.hpp"
#include "support/run.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

std::string words(std::size_t size) {
  std::string out;
  const std::string from = noise(4000, 5);
  for (std::uint32_t state = 1; out.size() < size;) {
    state = state * 1664525 + 1013904223;
    out += from.substr(state >> 20 & 2047, 3 + (state >> 10 & 7)) + ' ';
  }
  out.resize(size);
  return out;
}

Setting search(const std::string& packed, const std::string& content) {
  const auto kind = detect_compression(as_view(packed));
  REQUIRE(kind);
  return find_setting(*kind, as_view(content), as_view(packed),
                      framing_of(*kind, as_view(packed), content.size()), {.jobs = 2});
}

}  // namespace

TEST_CASE("settings: what general tools wrote is written again, byte for byte") {
  const TempDir dir;
  const std::string content = words(90000);
  test::write(dir / "content", content);
  for (const std::string tool :
       {"gzip -9n", "gzip -6n", "lz4 -l -12", "lz4 -l -9", "lz4 -l -1", "lz4 -9", "lz4 -12 -B4 -BD",
        "xz -6 --check=crc32", "xz -9e", "xz -2", "lzma -6", "bzip2 -9", "bzip2 -3", "zstd -19",
        "zstd -3", "zstd -9 --no-check"}) {
    CAPTURE(tool);
    REQUIRE(shell(tool + " -q -c < content > packed", dir.path().string()).exit_code == 0);
    const std::string packed = test::read(dir / "packed");
    const Setting found = search(packed, content);
    CHECK(found.proof == Proof::Whole);
    const auto kind = *detect_compression(as_view(packed));
    const auto again = encode(kind, as_view(content), found.framing);
    REQUIRE(again);
    check_same(*again, as_view(packed));
    Framing spelled = found.framing;
    REQUIRE(set_setting(spelled, setting_text(kind, found.framing)));
    CHECK(*encode(kind, as_view(content), spelled) == *again);
  }
}

TEST_CASE("settings: large content is tried at its start, and does not depend on the jobs") {
  const std::string content = words(9u << 20);
  for (const int level : {3, 9, 12}) {
    const std::string packed = test::lz4_block(content, level);
    const auto kind = Compression::Lz4Legacy;
    for (const unsigned jobs : {1u, 2u}) {
      const Setting found =
          find_setting(kind, as_view(content), as_view(packed), {}, {.jobs = jobs});
      CHECK(found.proof == Proof::Start);
      CHECK(found.framing.level == level);
    }
  }
}

TEST_CASE("settings: a stream that no setting gives is told so, and the densest is used") {
  const std::string content = words(50000);
  // Two different levels in one member: no library does that.
  const std::string packed = test::gzip(content.substr(0, 100), 1);
  const Setting found = search(packed, content);
  CHECK(found.proof == Proof::None);
  CHECK(found.framing.level == -1);
  CHECK(setting_text(Compression::Gzip, found.framing) == "densest");
}

TEST_CASE("settings: a large stream that no setting gives is told so from its start") {
  const std::string content = words(5u << 20);
  std::string other = content;
  other[1000] = static_cast<char>(other[1000] ^ 1);
  CHECK(search(test::gzip(content), content).proof == Proof::Start);
  CHECK(search(test::gzip(content), other).proof == Proof::None);
}

TEST_CASE("settings: bzip2 says its level") {
  const std::string packed = test::bzip2("content");  // "BZh9"
  REQUIRE(packed[3] == '9');
  CHECK(setting_text(Compression::Bzip2, framing_of(Compression::Bzip2, as_view(packed), 7)) ==
        "level 9");
}

TEST_CASE("settings: the spelling is read strictly") {
  Framing framing;
  for (const char* good : {"densest", "level 9", "level 9, memory 8", "preset 6, extreme 1",
                           "level 19, unsized 1, worker 1"})
    CHECK(set_setting(framing, good));
  CHECK(framing.variant == 3);
  for (const char* bad : {"", "level", "level x", "level 23", "level 9 memory 8", "level 9, memory",
                          "fast", "level 9,", "level -1"})
    CHECK(set_setting(framing, bad).error().code == ErrorCode::BadValue);
}

TEST_CASE("encode: blocks of lz4 whose content did not change keep their stock bytes") {
  std::string content = words(17u << 20);
  const std::string packed = test::lz4_block(content, 4);
  const std::string stock = content;
  content[content.size() - 5] ^= 1;  // in the last of three blocks
  const auto out = encode(Compression::Lz4Legacy, as_view(content), {.level = 9}, {.jobs = 2},
                          {as_view(packed), as_view(stock)});
  REQUIRE(out);
  CHECK(text(*out).substr(0, packed.size() / 2) == packed.substr(0, packed.size() / 2));
  CHECK(text(decode(Compression::Lz4Legacy, *out)->bytes) == content);
}

TEST_CASE("encode: a large gzip member is packed in pieces that any reader takes") {
  const TempDir dir;
  const std::string content = words(10u << 20);  // pieces are of four
  const std::string old = test::gzip("stock");
  const StockStream stock{as_view(old), {}};
  const auto one = encode(Compression::Gzip, as_view(content), {.level = 1}, {.jobs = 1}, stock);
  const auto two = encode(Compression::Gzip, as_view(content), {.level = 1}, {.jobs = 2}, stock);
  REQUIRE(one);
  CHECK(*one == *two);
  const auto plain = encode(Compression::Gzip, as_view(content), {.level = 1});
  CHECK(one->size() < plain->size() + plain->size() / 200);
  test::write(dir / "x.gz", text(*one));
  CHECK(shell("gzip -dc x.gz | sha256sum", dir.path().string())
            .out.starts_with(hex_of(sha256(content))));
  CHECK(equal(decode(Compression::Gzip, *one)->bytes, as_view(content)));
}

TEST_CASE("decode: a ratio no stock part has is refused early, unless the user raises the bound") {
  const std::string bomb = test::zstd(std::string(100u << 20, '\0'));
  const auto refused = decode(Compression::Zstd, as_view(bomb));
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::LimitExceeded);
  CHECK(refused.error().hint.find("--limit") != std::string::npos);
  Context raised;
  raised.decode_bound = 200u << 20;
  CHECK(decode(Compression::Zstd, as_view(bomb), decode_limit(raised)));
  raised.decode_bound = 50u << 20;
  CHECK_FALSE(decode(Compression::Zstd, as_view(bomb), decode_limit(raised)));
}
