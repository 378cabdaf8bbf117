#include "image/kernel.hpp"

#include "support/boot.hpp"
#include "support/check.hpp"
#include "support/containers.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

const std::string kConfig = "CONFIG_KORVALE=y\n# CONFIG_OTHER is not set\n";
const std::string kRaw = arm64_kernel("6.12.30-korvale", kConfig);
const std::string kTree = device_tree("Korvale Tarn 2", "korvale,vernier");

kernel::Kernel look(const std::string& bytes) {
  return kernel::read(blob(bytes));
}

std::string zimage(const std::string& payload) {
  std::string out = std::string(0x24, '\1') + le32(0x016f2818) + le32(0) + le32(0) + noise(500, 4);
  out += payload + noise(300, 5);
  out.replace(0x2c, 4, le32(static_cast<std::uint32_t>(out.size())));
  return out;
}

}  // namespace

TEST_CASE("kernel: banner, release, architecture and configuration, in every compression") {
  const std::pair<const char*, std::string> forms[] = {
      {"none", kRaw},
      {"gzip", gzip(kRaw)},
      {"lz4-legacy", lz4_legacy(kRaw)},
      {"lz4-legacy", lz4_legacy(kRaw, true)},
      {"xz", xz(kRaw)},
      {"bzip2", bzip2(kRaw)},
      {"zstd", zstd(kRaw)},
      {"lz4-frame", lz4_frame(kRaw)},
  };
  for (const auto& [compression, bytes] : forms)
    for (const int trees : {0, 1, 3}) {
      std::string section = bytes;
      for (int i = 0; i < trees; ++i)
        section += kTree;
      const auto kernel = look(section);
      CAPTURE(compression);
      CAPTURE(trees);
      CHECK(kernel.form == "arm64 Image");
      CHECK(kernel.architecture == "arm64");
      CHECK(kernel.compression == compression);
      CHECK(kernel.release == "6.12.30-korvale");
      CHECK(kernel.banner.starts_with("Linux version 6.12.30-korvale (tarn@korvale)"));
      CHECK(kernel.config == kConfig);
      CHECK(dt::blobs(kernel.trees).size() == static_cast<std::size_t>(trees));
      if (trees != 0) CHECK(kernel.trees_at == bytes.size());
    }
}

TEST_CASE("kernel: the format string of the banner is not the banner") {
  CHECK(look("Linux version %s (%s)" + noise(100)).banner.empty());
  CHECK(look(noise(5000)).form == "unknown");
  CHECK(look("").banner.empty());
}

TEST_CASE("kernel: one that unpacks itself is looked into") {
  for (const std::string& payload : {gzip(kRaw), xz(kRaw), lz4_legacy(kRaw)}) {
    const auto kernel = look(zimage(payload) + kTree);
    CHECK(kernel.form == "ARM zImage");
    CHECK(kernel.compression != "none");
    CHECK(kernel.release == "6.12.30-korvale");
    CHECK(kernel.config == kConfig);
    CHECK(dt::blobs(kernel.trees).size() == 1);
  }
  const std::string packed = gzip(kRaw);
  const std::string zboot = "MZ" + std::string(2, '\0') + "zimg" + le32(64) +
                            le32(static_cast<std::uint32_t>(packed.size())) + field("", 8) +
                            field("gzip", 40) + packed;
  const auto kernel = look(zboot);
  CHECK(kernel.form == "EFI zboot");
  CHECK(kernel.architecture == "arm64");
  CHECK(kernel.release == "6.12.30-korvale");
}

TEST_CASE("kernel: makers' headers before it are passed") {
  const std::string packed = gzip(kRaw) + kTree;
  const auto headed = look(chipset_header("KERNEL", packed) + packed);
  CHECK(headed.wrapping == "chipset part header KERNEL");
  CHECK(headed.release == "6.12.30-korvale");
  CHECK(dt::blobs(headed.trees).size() == 1);
  const std::string uimage = be32(0x27051956) + field("", 28) + field("Linux-6.12", 32) + packed;
  CHECK(look(uimage).wrapping == "uImage Linux-6.12");
  CHECK(look(uimage).release == "6.12.30-korvale");
}

TEST_CASE("kernel: a tree inside a raw kernel is not an appended one") {
  const std::string inside = kRaw + kTree + noise(9000, 6);
  CHECK(look(inside).trees.empty());
  CHECK_FALSE(look(inside + kTree).trees.empty());
  CHECK(look(inside + kTree).trees_at == inside.size());
  // A little that a maker left behind the last tree is kept with them.
  CHECK(look(inside + kTree + "left").trees.size() == kTree.size() + 4);
}

TEST_CASE("kernel: damage and bombs are told, in bounded time") {
  std::string damaged = gzip(kRaw);
  damaged[damaged.size() / 2] ^= 0x55;
  CHECK_FALSE(look(damaged).trouble.empty());
  const auto bomb = kernel::read(blob(gzip(std::string(8u << 20, '\0'))), {.bytes = 1u << 20});
  CHECK_FALSE(bomb.trouble.empty());
  // Trees by the ten thousand with bytes behind them: looked at once, not each from each.
  std::string many = kRaw;
  for (int i = 0; i < 20000; ++i)
    many += kTree;
  CHECK(look(many + noise(9000)).trees.empty());
}

TEST_CASE("kernel: a payload is looked for at so many places, and one past the end is none") {
  const auto behind = [](int others) {
    std::string before;
    for (int i = 0; i < others; ++i)
      before += std::string("\x1f\x8b\x08", 3) + std::string(13, '\xff');
    return look(zimage(before + gzip(kRaw))).release;
  };
  CHECK(behind(23) == "6.12.30-korvale");
  CHECK(behind(24).empty());
  const std::string packed = gzip(kRaw);
  const auto zboot = [&](std::size_t size) {
    return "MZ" + std::string(2, '\0') + "zimg" + le32(64) +
           le32(static_cast<std::uint32_t>(size)) + field("", 8) + field("gzip", 40) + packed;
  };
  CHECK(look(zboot(packed.size())).release == "6.12.30-korvale");
  CHECK(look(zboot(packed.size() + 1)).release.empty());
}

TEST_CASE("kernel: sums and sizes before it are renewed only where they were") {
  const std::string packed = gzip(kRaw);
  std::string now = kRaw;
  now.replace(now.find("tarn@"), 4, "gear");
  const auto put = [&](const std::string& section) {
    const auto body = value_of(kernel::open_body(blob(section)));
    return text(value_of(kernel::with_body(blob(section), body, blob(now), {})));
  };
  const auto crc = [](const std::string& bytes) { return be32(crc32_by_hand(bytes)); };
  for (const bool data_true : {true, false})
    for (const bool header_true : {true, false}) {
      CAPTURE(data_true);
      CAPTURE(header_true);
      const auto size = be32(static_cast<std::uint32_t>(packed.size()));
      std::string header = be32(0x27051956) + be32(0) + be32(1) + size + field("", 8) +
                           (data_true ? crc(packed) : be32(7)) + field("", 36);
      header.replace(4, 4, header_true ? crc(header) : be32(7));
      const std::string out = put(header + packed);
      const std::string body = out.substr(64);
      CHECK(look(out).release == "6.12.30-korvale");
      CHECK(out.substr(12, 4) == be32(static_cast<std::uint32_t>(body.size())));
      CHECK(out.substr(24, 4) == (data_true ? crc(body) : be32(7)));
      std::string without = out.substr(0, 64);
      without.replace(4, 4, be32(0));
      CHECK(out.substr(4, 4) == (header_true ? crc(without) : be32(7)));
    }
  // A chipset's header: its size follows where it was the part's.
  for (const std::uint32_t off : {0u, 5u}) {
    std::string header = chipset_header("KERNEL", packed);
    header.replace(4, 4, le32(static_cast<std::uint32_t>(packed.size() - off)));
    const std::string out = put(header + packed);
    const std::size_t size = off == 0 ? out.size() - 512 : packed.size() - off;
    CHECK(out.substr(4, 4) == le32(static_cast<std::uint32_t>(size)));
  }
  // A header with nothing behind it still is one.
  CHECK(look(chipset_header("KERNEL", "")).wrapping == "chipset part header KERNEL");
}

TEST_CASE("kernel: in a room that the packed bytes just fill, none of them is written over") {
  // The last word of a gzip payload is its size: it needs its own four bytes, or to be the end.
  const std::string stock = zimage(gzip(kRaw, 9));
  const auto body = value_of(kernel::open_body(blob(stock)));
  const std::size_t room = gzip(kRaw, 9).size();
  int close = 0;
  for (std::uint32_t seed = 0; seed < 4000 && close < 3; ++seed) {
    std::string now = kRaw;
    now.replace(100, 6, hex_of(noise(3, seed)));
    const std::size_t size = gzip(now, 9).size();
    if (size >= room || size + 3 < room) continue;
    ++close;
    const auto out = kernel::with_body(blob(stock), body, blob(now), {});
    if (!out) {
      CHECK(out.error().code == ErrorCode::DoesNotFit);
      continue;
    }
    CHECK(out->size() == stock.size());
    const auto back = decode(Compression::Gzip, View(*out).subspan(body.begin));
    REQUIRE(back);
    CHECK(text(back->bytes) == now);
  }
  CHECK(close > 0);
}

TEST_CASE("kernel: one that unpacks itself fits its room again, and keeps its size") {
  // Machine words: each byte has its own habits, by its place in the word.
  std::string code = kRaw;
  code.resize(code.size() / 4 * 4);
  std::uint32_t state = 7;
  for (int i = 0; i < 60'000; ++i) {
    state = state * 1664525 + 1013904223;
    code += {static_cast<char>(state >> 24), static_cast<char>((state >> 20) % 16 * 16),
             static_cast<char>(0x80 + (state >> 16) % 4), static_cast<char>(0xe1 + state / 64 % 3)};
  }
  for (const Compression kind : {Compression::Xz, Compression::Lzma}) {
    const std::string stock = zimage(kind == Compression::Xz ? xz(code) : lzma(code));
    const auto body = value_of(kernel::open_body(blob(stock)));
    REQUIRE(body.compression == kind);
    std::string now = code;
    now.replace(now.size() - 400, 300, noise(300, 3));
    REQUIRE((kind == Compression::Xz ? xz(now, true, 9) : lzma(now, 9)).size() >
            body.end - body.begin);
    const Bytes out = value_of(kernel::with_body(blob(stock), body, blob(now), {}));
    CHECK(out.size() == stock.size());
    CHECK(text(value_of(decode(kind, View(out).subspan(body.begin))).bytes.view()) == now);
    const auto longer = kernel::with_body(blob(stock), body, blob(now + "x"), {});
    REQUIRE_FALSE(longer);
    CHECK(longer.error().code == ErrorCode::DoesNotFit);
  }
}
