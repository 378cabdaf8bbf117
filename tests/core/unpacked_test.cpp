#include "codec/unpacked.hpp"

#include "codec/formats.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"
#include "support/run.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// Some MiB that compress, and tell where they are.
std::string content(std::size_t mib) {
  std::string out;
  for (std::uint32_t i = 0; out.size() < (mib << 20); ++i)
    out += le32(i * 2654435761u) + "the same words again and again " + noise(i % 8, i);
  return out;
}

struct Kind {
  Compression kind;
  std::string (*pack)(const std::string&);
};
const std::vector<Kind> kKinds{
    {Compression::Gzip, [](const std::string& s) { return gzip(s); }},
    {Compression::Xz, [](const std::string& s) { return xz(s, true, 0); }},
    {Compression::Bzip2, bzip2},
    {Compression::Lz4Frame, [](const std::string& s) { return lz4_frame(s); }},
    {Compression::Lz4Legacy, [](const std::string& s) { return lz4_legacy(s); }},
    {Compression::Lzma, [](const std::string& s) { return lzma(s, 0); }},
    {Compression::Zstd, [](const std::string& s) { return zstd(s); }},
};

SourcePtr open(Compression kind, const std::string& packed) {
  auto source = open_unpacked({.source = open_memory(blob(packed), "packed"), .kind = kind}, {});
  REQUIRE(source);
  return *source;
}

std::string part(const Source& source, std::uint64_t at, std::size_t size) {
  Bytes out(size);
  REQUIRE(source.read_at(at, out));
  return text(out);
}

}  // namespace

TEST_CASE("unpacked: forward, backward and here and there, of every format") {
  const std::string whole = content(5);  // decoders are copied every four
  for (const Kind& one : kKinds) {
    CAPTURE(compression_name(one.kind));
    const SourcePtr source = open(one.kind, one.pack(whole));
    REQUIRE(source->size() == whole.size());
    CHECK_FALSE(source->seekable());
    CHECK(text(read_all(*source, 1u << 30)->view()) == whole);
    // Backwards, in steps that no chunk boundary fits.
    for (std::size_t at = whole.size() - 100; at > 700'001; at -= 700'001)
      CHECK(part(*source, at, 100) == whole.substr(at, 100));
    std::uint32_t place = 1;
    for (int i = 0; i < 20; ++i) {
      place = place * 1664525 + 1013904223;
      const std::size_t at = place % (whole.size() - 5000);
      CHECK(part(*source, at, 5000) == whole.substr(at, 5000));
    }
  }
}

TEST_CASE("unpacked: streams that follow belong to it; what is no stream does not") {
  const std::string a = content(1), b = noise(3000);
  for (const Kind& one : kKinds) {
    // These say their size in front: see the next test.
    if (one.kind == Compression::Lz4Legacy || one.kind == Compression::Lzma) continue;
    CAPTURE(compression_name(one.kind));
    const std::string two = one.pack(a) + one.pack(b);
    const auto opened =
        open_unpacked({.source = open_memory(blob(two), "two"), .kind = one.kind}, {});
    REQUIRE(opened);
    if ((*opened)->size() == a.size() + b.size())
      CHECK(text(read_all(**opened, 1u << 30)->view()) == a + b);
    else  // a promised size holds for the first stream: more is refused, not dropped
      CHECK_FALSE(read_all(**opened, 1u << 30));
  }
  const std::string padded_xz = xz(a) + std::string(8, '\0') + xz(b) + std::string(4, '\0');
  CHECK(open(Compression::Xz, padded_xz)->size() == a.size() + b.size());
  CHECK(text(read_all(*open(Compression::Gzip, gzip(a) + "junk"), 1u << 30)->view()) == a);
}

TEST_CASE("unpacked: the promises of a container are held to at the end") {
  const std::string whole = content(1), wrapped = gzip(whole);
  const std::string raw = wrapped.substr(10, wrapped.size() - 18);
  const auto read = [&](std::uint64_t size, std::uint32_t crc) {
    const auto source = open_unpacked({.source = open_memory(blob(raw), "z!member"),
                                       .kind = Compression::Deflate,
                                       .size = size,
                                       .crc = crc,
                                       .joined = false},
                                      {});
    REQUIRE(source);
    CHECK((*source)->own_check() == "crc-32");
    return read_all(**source, 1u << 30);
  };
  const std::uint32_t crc = crc32_by_hand(whole);
  CHECK(read(whole.size(), crc));
  CHECK(read(whole.size(), crc ^ 1).error().code == ErrorCode::DigestMismatch);
  CHECK(read(whole.size() - 1, crc).error().code == ErrorCode::Corrupt);
  CHECK(read(whole.size() + 1, crc).error().code == ErrorCode::Corrupt);
  // Far from the end: what was asked for is there, and more follows.
  CHECK(read(100, crc).error().code == ErrorCode::Corrupt);
  CHECK(read(whole.size() / 2, crc).error().code == ErrorCode::Corrupt);
}

TEST_CASE("unpacked: damage and cuts give errors that name the file, each time") {
  const std::string whole = content(2);
  for (const Kind& one : kKinds) {
    CAPTURE(compression_name(one.kind));
    std::string packed = one.pack(whole);
    packed.resize(packed.size() / 2);
    const auto opened =
        open_unpacked({.source = open_memory(blob(packed), "cut"), .kind = one.kind}, {});
    for (int again = 0; again < 2 && opened; ++again) {
      const auto read = read_all(**opened, 1u << 30);
      REQUIRE_FALSE(read);
      CHECK(read.error().file == "cut");
    }
    if (!opened) CHECK(opened.error().file == "cut");
  }
}

TEST_CASE("unpacked: a bomb is refused while it is counted") {
  Context small;
  small.decode_bound = 1u << 20;
  const std::string packed = gzip(std::string(64u << 20, '\0'));
  const auto bomb = open_unpacked(
      {.source = open_memory(blob(packed), "bomb"), .kind = Compression::Gzip}, small);
  REQUIRE_FALSE(bomb);
  CHECK(bomb.error().code == ErrorCode::LimitExceeded);
}

TEST_CASE("unpacked: without a bound, what is thousands of times its packed size is a bomb") {
  const TempDir dir;
  // From a pipe: the frame does not say its size.
  REQUIRE(shell("head -c 1100M /dev/zero | zstd -q -c > bomb", dir.path().string()).exit_code == 0);
  const auto opened = [&](std::uint64_t bound) {
    Context context;
    context.decode_bound = bound;
    return open_unpacked({.source = value_of(open_file(dir / "bomb")), .kind = Compression::Zstd},
                         context);
  };
  const auto bomb = opened(0);
  REQUIRE_FALSE(bomb);
  CHECK(bomb.error().code == ErrorCode::LimitExceeded);
  CHECK(value_of(opened(std::uint64_t{2} << 30))->size() == std::uint64_t{1100} << 20);
}

TEST_CASE("unpacked: sizes that streams promise are added without wrapping, or not believed") {
  const auto size_of = [](Compression kind, const std::string& bytes) {
    return codec::promised_size(kind, *open_memory(blob(bytes), "packed"));
  };
  // A frame of no bytes that says it holds 2^63.
  const std::string frame =
      std::string("\x28\xb5\x2f\xfd\xe0", 5) + le64(1ULL << 63) + std::string("\x01\0\0", 3);
  CHECK(size_of(Compression::Zstd, frame) == 1ULL << 63);
  CHECK_FALSE(size_of(Compression::Zstd, frame + frame));
  const std::string two = xz("four") + std::string(8, '\0') + xz("seven..");
  CHECK(size_of(Compression::Xz, two) == 11);
  for (const std::size_t size : {0u, 4u, 11u, 12u, 20u, 23u})
    CHECK_FALSE(size_of(Compression::Xz, two.substr(two.size() - size)).value_or(0));
}

namespace {

/// Zeros, and at their end a file's last bytes; counts what is read.
class LongFile final : public Source {
 public:
  explicit LongFile(std::string end) : Source("long"), end_(std::move(end)) {}
  std::uint64_t size() const override { return kBefore + end_.size(); }
  Status read_at(std::uint64_t offset, MutableView out) const override {
    read += out.size();
    for (std::byte& one : out) {
      one = offset < kBefore ? std::byte{0} : static_cast<std::byte>(end_[offset - kBefore]);
      ++offset;
    }
    return {};
  }
  mutable std::uint64_t read = 0;

 private:
  static constexpr std::uint64_t kBefore = 40u << 20;
  std::string end_;
};

}  // namespace

TEST_CASE("unpacked: an xz index that would fill the memory is not read") {
  // A footer that says its index has 32 MiB: sum, size in words less one, flags, magic.
  const std::string fields = le32((32u << 20) / 4 - 1) + std::string("\0\1", 2);
  const LongFile file(le32(crc32_by_hand(fields)) + fields + "YZ");
  CHECK_FALSE(codec::promised_size(Compression::Xz, file));
  CHECK(file.read < 1u << 20);
}

TEST_CASE("unpacked: brotli, packed by the usual program") {
  const TempDir dir;
  const std::string whole = content(3);
  write(dir / "x", whole);
  REQUIRE(shell("brotli -q 5 x", dir.path().string()).exit_code == 0);
  const SourcePtr source = open(Compression::Brotli, read(dir / "x.br"));
  CHECK(text(read_all(*source, 1u << 30)->view()) == whole);
}

TEST_CASE("unpacked: what a decoder will take is known before it is made") {
  const std::string whole = content(1);
  const std::string packed = xz(whole);
  CHECK(decoder_memory(Compression::Xz, blob(packed)) >= 8u << 20);
  CHECK(decoder_memory(Compression::Xz, blob("nothing")) == 0);
}
