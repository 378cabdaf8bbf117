/// What a recipe puts into a ramdisk: texts, packed files, folders; and where the stock file is
/// kept.

#include <lzma.h>

#include "codec/codec.hpp"
#include "core/edits_bench.hpp"

namespace wexlo::test {

namespace {

const std::string kHead = "format = 1\nname = \"put\"\n";

/// The first ramdisk of an image after a recipe.
Ramdisk patched_by(const std::string& edits, const std::string& image) {
  const TempDir dir;
  write(dir / "hello", elf("arm64", noise(300'000, 7)));
  write(dir / "r.toml", kHead + edits);
  auto recipes = value_of(load_recipes({(dir / "r.toml").string()}, {}));
  REQUIRE(bind_recipes(recipes, {.architecture = "arm64"}));
  const auto done = patch_image(load(image), {"boot", true}, recipes);
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  check_undone(*done, image);
  return ramdisk_of(done->bytes.view());
}

/// As a boot stage unpacks it: one call, the whole stream, its dictionary in memory.
std::string single_call(const std::string& packed, std::uint64_t memory) {
  std::string out(4u << 20, '\0');
  std::size_t in_at = 0, out_at = 0;
  const lzma_ret code = lzma_stream_buffer_decode(
      &memory, LZMA_TELL_UNSUPPORTED_CHECK, nullptr,
      reinterpret_cast<const std::uint8_t*>(packed.data()), &in_at, packed.size(),
      reinterpret_cast<std::uint8_t*>(out.data()), &out_at, out.size());
  CHECK(code == LZMA_OK);
  CHECK(in_at == packed.size());
  out.resize(out_at);
  return out;
}

}  // namespace

TEST_CASE("put: a packed file is one xz stream that a kernel's decoder and the xz program read") {
  const std::string stock = elf("arm64", "stock init");
  const std::string image =
      BootBytes{.ramdisk = gzip(CpioBytes{}.file("init", stock).done())}.done();
  const std::string edits =
      "[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"hello\"\nkeep_stock = "
      "\"tide/init.xz\"\nkeep_pack = \"xz\"\n[[edit]]\nkind = \"put\"\npath = "
      "\"tide/a.xz\"\nfrom = \"hello\"\npack = \"xz\"\n[[edit]]\nkind = \"put\"\npath = "
      "\"tide/a.gz\"\nfrom = \"hello\"\npack = \"gzip\"\n";
  const Ramdisk ramdisk = patched_by(edits, image);
  const std::string program = elf("arm64", noise(300'000, 7));
  CHECK(at(ramdisk, "init") == program);
  const std::string packed = at(ramdisk, "tide/a.xz");
  // The stream's header: magic, no flags, check 1 is CRC32.
  CHECK(packed.substr(0, 8) == std::string("\xfd"
                                           "7zXZ\0\0\x01",
                                           8));
  CHECK(single_call(packed, 4u << 20) == program);
  CHECK(single_call(at(ramdisk, "tide/init.xz"), 1u << 20) == stock);
  CHECK_FALSE(find_entry(ramdisk, "wexlo/stock/init"));
  const TempDir dir;
  write(dir / "a.xz", packed);
  write(dir / "b.gz", at(ramdisk, "tide/a.gz"));
  const Ran listed = run({"xz", "--robot", "--list", (dir / "a.xz").string()});
  CHECK(listed.exit_code == 0);
  // One stream of one block, and its check.
  CHECK(listed.out.find("file\t1\t1\t") != std::string::npos);
  CHECK(listed.out.find("CRC32") != std::string::npos);
  REQUIRE(run({"xz", "-d", (dir / "a.xz").string()}).exit_code == 0);
  REQUIRE(run({"gzip", "-d", (dir / "b.gz").string()}).exit_code == 0);
  CHECK(read(dir / "a") == program);
  CHECK(read(dir / "b") == program);
  // The same bytes each time.
  CHECK(at(patched_by(edits, image), "tide/a.xz") == packed);
}

TEST_CASE("put: texts as they are, and folders with their owner") {
  const std::string image =
      BootBytes{.ramdisk = gzip(CpioBytes{}.folder("system").file("init", "x").done())}.done();
  const Ramdisk ramdisk = patched_by(
      "[[edit]]\nkind = \"put\"\npath = \"tide/conf\"\ntext = \"\"\"\na = "
      "1\n\tb\n\"\"\"\n[[edit]]\n"
      "kind = \"put\"\npath = \"tide/empty\"\ntext = \"\"\n[[edit]]\nkind = \"folder\"\npath = "
      "\"tide/state/deep\"\nmode = 0o700\nuid = 1000\n[[edit]]\nkind = \"folder\"\npath = "
      "\"system\"\n",
      image);
  CHECK(at(ramdisk, "tide/conf") == "a = 1\n\tb\n");
  CHECK(at(ramdisk, "tide/empty").empty());
  const auto deep = find_entry(ramdisk, "tide/state/deep");
  REQUIRE(deep);
  CHECK(entry_at(ramdisk, *deep).mode() == (newc::Directory | 0700));
  CHECK(entry_at(ramdisk, *deep).get(newc::Field::Uid) == 1000);
  CHECK(entry_at(ramdisk, *find_entry(ramdisk, "tide/state")).mode() == (newc::Directory | 0755));
}

TEST_CASE("put: a place for the stock file that is taken, and a folder where a file is") {
  const TempDir dir;
  const std::string image =
      BootBytes{.ramdisk = gzip(CpioBytes{}.file("init", "x").file("taken", "y").done())}.done();
  const auto error = [&](const std::string& edit) {
    write(dir / "r.toml", kHead + edit);
    auto recipes = value_of(load_recipes({(dir / "r.toml").string()}, {}));
    const auto done = patch_image(load(image), {"boot", true}, recipes);
    REQUIRE_FALSE(done);
    return done.error().message;
  };
  CHECK(error("[[edit]]\nkind = \"put\"\npath = \"init\"\ntext = \"n\"\nkeep_stock = \"taken\"\n")
            .contains("something is there already"));
  CHECK(
      error("[[edit]]\nkind = \"folder\"\npath = \"taken\"\n").contains("something else is there"));
}

}  // namespace wexlo::test
