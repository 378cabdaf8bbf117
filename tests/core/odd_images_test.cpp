/// Boot images of odd forms: a shifted header, an ELF program, a marked kernel, lzo.

#include "codec/codec.hpp"
#include "image/boot.hpp"
#include "image/elf_boot.hpp"
#include "image/kernel.hpp"
#include "ramdisk/layout.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// lzop's file by hand: blocks stored as they are, with their Adler-32.
std::string lzop_stored(const std::string& data) {
  const auto be16 = [](unsigned value) {
    return std::string{static_cast<char>(value >> 8), static_cast<char>(value)};
  };
  const auto adler = [](const std::string& of) {
    std::uint32_t a = 1, b = 0;
    for (const char one : of) {
      a = (a + static_cast<unsigned char>(one)) % 65521;
      b = (b + a) % 65521;
    }
    return b << 16 | a;
  };
  const std::string header = be16(0x1030) + be16(0x20a0) + be16(0x0940) + "\1\5" + be32(1) +
                             be32(0100644) + be32(0) + be32(0) + std::string("\4init", 5);
  std::string out("\x89LZO\0\r\n\x1a\n", 9);
  out += header + be32(adler(header));
  for (std::size_t at = 0; at < data.size(); at += 4096) {
    const std::string block = data.substr(at, 4096);
    out += be32(size32(block)) + be32(size32(block)) + be32(adler(block)) + block;
  }
  return out + be32(0);
}

}  // namespace

TEST_CASE("boot: the header whose page size stands at 44 is read, written and edited") {
  const std::string bytes = shifted_boot(zimage_kernel(), test::gzip(first_ramdisk()));
  const LoadedImage loaded = load(bytes);
  REQUIRE(loaded.image);
  CHECK(text(loaded.image->write()) == bytes);
  CHECK(loaded.image->page() == 2048);
  CHECK(loaded.image->number("tags_addr") == 0x10000100);
  CHECK(boot::cmdline(*loaded.image) == "console=ttyKV0");
  CHECK(at(ramdisk_of(as_view(bytes)), "init") != "(none)");
  Image changed = *loaded.image;
  REQUIRE(changed.replace("ramdisk", blob(std::string(5000, 'r'))));
  const LoadedImage again = load(text(changed.write()));
  CHECK(again.image->section("ramdisk")->bytes.size() == 5000);
  CHECK(again.image->section("kernel")->bytes.size() == 6000);
  // A header of version 0 with its page size where it belongs is none of these.
  CHECK(load(BootBytes{.version = 0, .page = 2048, .kernel = zimage_kernel()}.done())
            .image->number("page_size") == 2048);
}

TEST_CASE("boot: an ELF program is a boot image; parts are replaced in their places") {
  const ElfBytes elf{.kernel = zimage_kernel(), .ramdisk = test::gzip(first_ramdisk())};
  const std::string bytes = elf.done();
  const LoadedImage loaded = load(bytes);
  REQUIRE(loaded.image);
  CHECK(loaded.image->kind() == "boot");
  CHECK(text(loaded.image->write()) == bytes);
  CHECK(at(ramdisk_of(as_view(bytes)), "init") != "(none)");
  const std::size_t room = elf.ramdisk.size() + elf.gap;
  for (const std::size_t size : {std::size_t{10}, elf.ramdisk.size(), room}) {
    Image changed = *loaded.image;
    REQUIRE(changed.replace("ramdisk", blob(std::string(size, 'r'))));
    const std::string out = text(changed.write());
    CHECK(out.size() == bytes.size());
    CHECK(out.substr(out.size() - elf.gap - elf.more.size(), elf.more.size()) == elf.more);
    CHECK(load(out).image->section("ramdisk")->bytes.size() == size);
    CHECK(load(out).image->number("ramdisk_memory_size") == size);
  }
  Image changed = *loaded.image;
  CHECK(changed.replace("ramdisk", blob(std::string(room + 1, 'r'))).error().code ==
        ErrorCode::DoesNotFit);
  CHECK(text(changed.write()) == bytes);
  // A kernel with nothing behind it that gets shorter leaves zeros.
  const ElfBytes tight{.kernel = zimage_kernel(), .ramdisk = test::gzip(first_ramdisk()), .gap = 0};
  Image shorter = *load(tight.done()).image;
  std::string kernel = zimage_kernel();
  kernel.resize(5000);
  REQUIRE(shorter.replace("kernel", blob(kernel)));
  CHECK(shorter.write().size() == tight.done().size());
  CHECK(load(text(shorter.write())).image->section("ramdisk")->bytes.size() ==
        tight.ramdisk.size());
}

TEST_CASE("boot: an ELF image that is cut, or whose segments overlap, is refused") {
  const ElfBytes elf{.kernel = zimage_kernel(), .ramdisk = noise(900)};
  const std::string bytes = elf.done();
  CHECK(boot::parse_elf_boot(blob(bytes.substr(0, bytes.size() - 400))).error().code ==
        ErrorCode::Truncated);
  std::string over = bytes;
  over.replace(52 + 32 + 4, 4, le32(4100));
  CHECK(boot::parse_elf_boot(blob(over)).error().code == ErrorCode::BadValue);
  std::string far = bytes;
  far.replace(52 + 32 + 16, 4, le32(0xFFFFFFFF));
  CHECK(boot::parse_elf_boot(blob(far)).error().code == ErrorCode::Truncated);
  // A program is no boot image.
  CHECK_FALSE(boot::looks_like_elf_boot(as_view(test::elf("arm", noise(8000)))));
}

TEST_CASE("kernel: the mark of an uncompressed one, with trees behind it; its size follows it") {
  const std::string kernel = arm64_kernel("6.1.9-korvale");
  const std::string tree = device_tree("tarn", "korvale,gnomon");
  const std::string section = "UNCOMPRESSED_IMG" + le32(size32(kernel)) + kernel + tree;
  const auto read = kernel::read(blob(section));
  CHECK(read.form == "arm64 Image");
  CHECK(read.release == "6.1.9-korvale");
  CHECK(read.trees_at == 20 + kernel.size());
  CHECK(read.wrapping == "mark UNCOMPRESSED_IMG");
  const auto body = value_of(kernel::open_body(blob(section)));
  CHECK(text(body.decoded.view()) == kernel);
  const std::string longer = kernel + noise(100);
  const auto out = value_of(kernel::with_body(blob(section), body, blob(longer), {}));
  CHECK(text(out) == "UNCOMPRESSED_IMG" + le32(size32(longer)) + longer + tree);
  // A size beyond the section is not believed.
  CHECK(kernel::read(blob("UNCOMPRESSED_IMG" + le32(0xFFFFFFFF) + kernel)).release ==
        "6.1.9-korvale");
}

TEST_CASE("kernel: its page size, and programs that are linked for smaller pages") {
  std::string kernel = arm64_kernel("6.6.1-korvale");
  kernel.replace(24, 8, le64(0));
  CHECK(kernel::read(blob(kernel)).page_size == 0);
  for (const auto& [flags, pages] :
       {std::pair{2, 4096u}, std::pair{4, 16384u}, std::pair{6, 65536u}}) {
    kernel.replace(24, 8, le64(static_cast<std::uint64_t>(flags) | 8));
    CHECK(kernel::read(blob(kernel)).page_size == pages);
  }
  std::string program = test::elf("arm64", std::string(56, '\0') + noise(100));
  CHECK_FALSE(elf_alignment(as_view(program)));  // no segments
  program.replace(32, 8, le64(64));
  program.replace(54, 2, le16(56));
  program.replace(56, 2, le16(1));
  program.replace(64, 4, le32(1));
  program.replace(64 + 48, 8, le64(0x4000));
  CHECK(elf_alignment(as_view(program)) == 0x4000u);
  program.replace(32, 8, le64(1u << 30));
  CHECK_FALSE(elf_alignment(as_view(program)));
}

TEST_CASE("lzo: lzop's files are read, a written one has the same content and the same header") {
  const std::string data = first_ramdisk() + std::string(600'000, 'x') + noise(3000);
  const std::string stored = lzop_stored(data);
  REQUIRE(detect_compression(as_view(stored)) == Compression::Lzo);
  const auto decoded = value_of(decode(Compression::Lzo, as_view(stored + "behind")));
  CHECK(text(decoded.bytes.view()) == data);
  CHECK(decoded.consumed == stored.size());
  const Framing framing = framing_of(Compression::Lzo, as_view(stored), data.size());
  const auto packed = value_of(encode(Compression::Lzo, as_view(data), framing));
  CHECK(packed.size() < data.size() / 10);
  CHECK(text(View(packed).first(40)) == stored.substr(0, 40));
  CHECK(text(value_of(decode(Compression::Lzo, packed)).bytes.view()) == data);
  CHECK(
      text(value_of(decode(Compression::Lzo, value_of(encode(Compression::Lzo, {})))).bytes.view())
          .empty());
  for (std::size_t cut = 0; cut < 60; ++cut)
    CHECK_FALSE(decode(Compression::Lzo, as_view(stored.substr(0, cut))));
  for (const std::size_t flip :
       {std::size_t{12}, std::size_t{30}, std::size_t{50}, std::size_t{500}}) {
    std::string bad = stored;
    bad[flip] ^= 0x40;
    CHECK_FALSE(decode(Compression::Lzo, as_view(bad)));
  }
  std::string large = stored;
  large.replace(large.find(be32(4096)), 4, be32(0x7FFFFFFF));
  CHECK(decode(Compression::Lzo, as_view(large)).error().code == ErrorCode::Corrupt);
  // A touched ramdisk is written as lzo again.
  const LoadedImage image = load(
      BootBytes{.version = 1, .page = 2048, .kernel = zimage_kernel(), .ramdisk = stored}.done());
  CHECK(at(ramdisk_of(image.bytes.view()), "init") != "(none)");
}
