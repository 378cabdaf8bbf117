/// The demo's root package: put in by its recipe alone, on the images that phones have, for each
/// processor; and its decoder, which has to unpack on the phone what was packed here.

#include "demo/tide.hpp"
#include "core/edits_bench.hpp"
#include "support/places.hpp"

extern "C" long wexlo_small_unxz(const unsigned char* in, std::size_t size, unsigned char* out,
                                 std::size_t room);

namespace wexlo::test {
namespace {

/// What tide's first program gets of a packed file; below 0: why it gets nothing.
struct Small {
  long outcome = 0;
  std::string bytes;
};
Small small_unxz(const std::string& packed, std::size_t room = 4u << 20) {
  std::string out(room, '\0');
  // Not a byte more than there is, for the sanitizers to see.
  const std::vector<unsigned char> in(packed.begin(), packed.end());
  const long size = wexlo_small_unxz(in.data(), in.size(),
                                     reinterpret_cast<unsigned char*>(out.data()), out.size());
  out.resize(size < 0 ? 0 : static_cast<std::size_t>(size));
  return {size < 0 ? size : 0, std::move(out)};
}

std::string by_xz(const std::string& plain, const std::string& options) {
  const TempDir dir;
  write(dir / "plain", plain);
  const Ran ran = shell("xz -c " + options + " " + (dir / "plain").string());
  REQUIRE(ran.exit_code == 0);
  return ran.out;
}

/// The package and its recipe in a folder.
struct Tide {
  TempDir dir;
  demo::RootPackage package = value_of(demo::tide_package());
  Tide() {
    write(dir / "tide.zip", text(Blob(Bytes(package.zip)).view()));
    write(dir / "tide.toml", std::string(package.recipe));
  }
  [[nodiscard]] std::vector<Recipe> recipes(const PhoneFacts& phone,
                                            const Settings& settings = {}) const {
    auto out = load_recipes({(dir / "tide.toml").string()}, settings);
    REQUIRE_MESSAGE(out, (out ? "" : describe(out.error())));
    const auto bound = bind_recipes(*out, phone);
    REQUIRE_MESSAGE(bound, (bound ? "" : describe(bound.error())));
    return std::move(*out);
  }
};

const PhoneFacts kPhone{.architecture = "arm64", .kmi = "android15-6.6"};

}  // namespace

TEST_CASE("tide: goes into every image that starts, once, and comes out bit for bit") {
  const Tide tide;
  std::size_t done_in = 0;
  for (const Named& image : images()) {
    if (image.partition == "vbmeta" || image.partition == "vendor_boot") continue;
    CAPTURE(image.name);
    const PatchRole role{.partition = image.partition, .phone = kPhone};
    const auto done = patch_image(load(image.bytes), role, tide.recipes(kPhone));
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    ++done_in;
    const Ramdisk ramdisk = ramdisk_of(done->bytes.view());
    const std::string archive_init = elf("arm64", "the stock init");
    CHECK(at(ramdisk, "init")
              .starts_with("\x7f"
                           "ELF"));
    CHECK(small_unxz(at(ramdisk, "tide/stock-init.xz")).bytes == archive_init);
    CHECK(small_unxz(at(ramdisk, "tide/keeper.xz")).bytes.find("unpacked and running") !=
          std::string::npos);
    const std::string settings = at(ramdisk, "tide/settings");
    CHECK(settings.find("image=" + image.partition + "\n") != std::string::npos);
    CHECK(settings.find("processor=arm64\n") != std::string::npos);
    CHECK(settings.find("stock=" + hex(digest(DigestKind::Sha1, as_view(image.bytes))) + "\n") !=
          std::string::npos);
    CHECK(settings.find("report_to=the bench\n") != std::string::npos);
    const bool generic = load(image.bytes).image->layout().version >= 3;
    CHECK(find_entry(ramdisk, "tide/tide.ko").has_value() == generic);
    // The list names what is not as it was, and nothing else.
    std::vector<std::string> listed;
    std::istringstream lines(at(ramdisk, "tide/changes"));
    for (std::string line; std::getline(lines, line);)
      listed.push_back(line);
    for (const char* one : {"changed /init", "kept /init /tide/stock-init.xz",
                            "added /tide/settings", "added /tide/keeper.xz"})
      CHECK(std::ranges::count(listed, one) == 1);
    CHECK(std::ranges::count(listed, "added /tide/tide.ko") == (generic ? 1 : 0));
    check_undone(*done, image.bytes);
    const auto twice = patch_image(load(text(done->bytes)), role, tide.recipes(kPhone));
    REQUIRE_MESSAGE(twice, (twice ? "" : describe(twice.error())));
    CHECK_FALSE(twice->changed);
    check_same(twice->bytes, done->bytes);
  }
  CHECK(done_in == 8);
}

TEST_CASE("tide: each processor gets its own programs, each generation its own module") {
  const Tide tide;
  REQUIRE_FALSE(tide.package.processors.empty());
  const std::string stock = BootBytes{.ramdisk = gzip(rich_archive())}.done();
  std::set<std::string> programs, modules;
  for (const std::string_view processor : tide.package.processors)
    for (const char* kmi : {"android14-6.1", "android15-6.6", "android16-6.12"}) {
      CAPTURE(processor);
      const PhoneFacts phone{.architecture = std::string(processor), .kmi = kmi};
      const auto done = patch_image(load(stock), {.partition = "boot", .phone = phone},
                                    tide.recipes(phone, {{"report_to", "the counter"}}));
      REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
      const Ramdisk ramdisk = ramdisk_of(done->bytes.view());
      programs.insert(at(ramdisk, "init"));
      // The modules are for arm64 kernels.
      REQUIRE(find_entry(ramdisk, "tide/tide.ko").has_value() == (processor == "arm64"));
      if (processor == "arm64") modules.insert(at(ramdisk, "tide/tide.ko"));
      CHECK(at(ramdisk, "tide/settings").find("report_to=the counter\n") != std::string::npos);
    }
  CHECK(programs.size() == tide.package.processors.size());
  CHECK(modules.size() == 3);
  // A generation that the package has no module for: the rest goes in.
  const PhoneFacts older{.architecture = "arm64", .kmi = "android13-5.15"};
  const auto done =
      patch_image(load(stock), {.partition = "boot", .phone = older}, tide.recipes(older));
  REQUIRE(done);
  CHECK_FALSE(find_entry(ramdisk_of(done->bytes.view()), "tide/tide.ko"));
}

TEST_CASE("tide: its decoder unpacks what xz packs, with any setting of LZMA2") {
  std::string text;
  for (int i = 0; i < 40000; ++i)
    text += "tide " + std::to_string(i * 7919 % 1000) + (i % 3 == 0 ? "\n" : " ");
  for (const std::string& plain :
       {std::string(), std::string("x"), text, noise(200'000, 3), text + noise(70'000, 4) + text})
    for (const char* options :
         {"-0 --check=crc32", "-6 --check=crc32", "-9e --check=none",
          "--check=crc32 --lzma2=lc=0,lp=4,pb=0", "--check=crc32 --lzma2=lc=1,lp=3,pb=4,dict=4KiB",
          "--check=crc32 --lzma2=lc=4,lp=0,pb=2,mode=fast,mf=hc3"}) {
      CAPTURE(options);
      CAPTURE(plain.size());
      const Small out = small_unxz(by_xz(plain, options));
      CHECK(out.outcome == 0);
      CHECK(out.bytes == plain);
    }
}

TEST_CASE("tide: its decoder refuses what it does not know, and what is damaged") {
  const std::string plain = "words that come again, words that come again, and " + noise(300, 5);
  CHECK(small_unxz(by_xz(plain, "--check=crc64")).outcome == -2);
  CHECK(small_unxz(by_xz(plain, "--check=crc32 --x86 --lzma2")).outcome == -2);
  CHECK(small_unxz(gzip(plain)).outcome == -1);
  CHECK(small_unxz("").outcome == -1);
  const std::string packed = by_xz(plain, "--check=crc32");
  CHECK(small_unxz(packed, plain.size() - 1).outcome == -4);
  CHECK(small_unxz(by_xz(plain, "--check=crc32 --block-size=100")).outcome == -2);
  // Whatever byte is another one, it never gives another text for the right one.
  for (std::size_t at = 0; at < packed.size(); ++at)
    for (const int bit : {0, 3, 7}) {
      std::string damaged = packed;
      damaged[at] = static_cast<char>(damaged[at] ^ (1 << bit));
      const Small out = small_unxz(damaged);
      if (out.outcome == 0) CHECK(out.bytes == plain);
    }
  for (std::size_t size = 0; size < packed.size(); ++size)
    if (const Small out = small_unxz(packed.substr(0, size)); out.outcome == 0)
      CHECK(out.bytes == plain);
}

}  // namespace wexlo::test
