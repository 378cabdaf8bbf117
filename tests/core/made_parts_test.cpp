/// Parts that a recipe makes or takes out: a ramdisk where there is none, fragments of vendor_boot.

#include "base/contains.hpp"
#include "core/edits_bench.hpp"
#include "kit/facts/target.hpp"

namespace wexlo::test {

namespace {

const std::string kPartsHead = "format = 1\nname = \"tide\"\n";

std::vector<Recipe> parts_recipes(const std::string& edits) {
  const TempDir dir;
  write(dir / "hello", elf("arm64", "tide"));
  write(dir / "one.cpio.gz", gzip(CpioBytes{}.file("one", "1").done()));
  std::filesystem::create_directories(dir / "files/lib");
  write(dir / "files/lib/tide.ko", "module");
  write(dir / "files/run", "#!/bin/sh\n");
  write(dir / "r.toml", kPartsHead + edits);
  auto recipes = load_recipes({(dir / "r.toml").string()}, {});
  REQUIRE_MESSAGE(recipes, (recipes ? "" : describe(recipes.error())));
  REQUIRE(bind_recipes(*recipes, {.architecture = "arm64"}));
  return std::move(*recipes);
}

Patched parts_patch(const std::string& image, const std::vector<Recipe>& recipes,
                    const std::string& partition) {
  auto done = patch_image(load(image), {partition, true}, recipes);
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  return std::move(*done);
}

std::string kernel_only(unsigned version, const std::string& config = "") {
  std::string kernel = arm64_kernel("4.9.1-tarn", config) + noise(40, 3) +
                       std::string("\0skip_initramfs\0", 16) + noise(400, 4);
  return BootBytes{.version = version, .page = 2048, .kernel = padded(kernel, 8)}.done();
}

const std::string kCreate =
    "[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"hello\"\nmode = 0o750\ncreate = "
    "true\n";

std::string vendor_image() {
  VendorBootBytes vendor{.dtb = rich_tree()};
  vendor.named = {{"", 1, lz4_legacy(CpioBytes{}.file("first", "x").done())},
                  {"recovery", 2, gzip(CpioBytes{}.file("second", "y").done())},
                  {"mods", 3, CpioBytes{}.file("third", "z").done(), 7}};
  return vendor.done();
}

std::string fragments_of(const Patched& done) {
  std::string out;
  for (const auto& part : boot::ramdisk_parts(*load(text(done.bytes.view())).image))
    out += part.name + ":" + boot::ramdisk_type_name(part.type) + ":" +
           std::to_string(part.board_id[0]) + " ";
  return out;
}

const std::string kAdd =
    "[[edit]]\nkind = \"fragment\"\nname = \"tide\"\ntype = \"dlkm\"\nboard_id = [5]\n";

}  // namespace

TEST_CASE("create: an image without a ramdisk gets one that its kernel reads, and goes back") {
  for (const unsigned version : {0u, 1u, 2u}) {
    CAPTURE(version);
    const std::string image = kernel_only(version);
    const Patched done = parts_patch(image, parts_recipes(kCreate), "boot");
    const Ramdisk ramdisk = ramdisk_of(done.bytes.view());
    CHECK(at(ramdisk, "init") == elf("arm64", "tide"));
    CHECK(ramdisk.compression() == Compression::Gzip);
    CHECK(contains(done.warnings, FindingCode::RamdiskMade,
                   [](const Finding& one) { return one.id.code; }));
    // What runs now must not be passed over.
    CHECK(text(done.bytes.view()).find("skip_initramfs") == std::string::npos);
    CHECK(done.way_back.in_image);
    check_undone(done, image);
    CHECK_FALSE(parts_patch(text(done.bytes.view()), parts_recipes(kCreate), "boot").changed);
  }
}

TEST_CASE("create: an image that got a ramdisk has the layout of its stock image on later runs") {
  const std::string image = kernel_only(2);
  const auto recipes = parts_recipes(
      kCreate +
      "[[edit]]\nkind = \"put\"\npath = \"conf\"\ntext = \"${layout}\"\n[[edit]]\nkind = "
      "\"change-list\"\npath = \"list\"\n[[edit]]\nkind = \"put\"\npath = \"no\"\ntext = "
      "\"x\"\nwhen = { layout = [\"ramdisk-root\"], reason = \"a test\" }\n");
  const Patched first = parts_patch(image, recipes, "boot");
  const Ramdisk ramdisk = ramdisk_of(first.bytes.view());
  CHECK(at(ramdisk, "conf") == "none");
  CHECK_FALSE(find_entry(ramdisk, "no"));
  // All in it was added.
  const std::string list = at(ramdisk, "list");
  for (const char* line : {"added /conf\n", "added /init\n", "added /list\n"})
    CHECK(list.find(line) != std::string::npos);
  check_undone(first, image);
  CHECK_FALSE(parts_patch(text(first.bytes.view()), recipes, "boot").changed);
}

TEST_CASE("create: packed as the kernel's configuration says, and not at all where nothing asks") {
  const auto compression = [](const std::string& config) {
    return ramdisk_of(
               parts_patch(kernel_only(2, config), parts_recipes(kCreate), "boot").bytes.view())
        .compression();
  };
  const std::string head = "#\n# Automatically generated file; DO NOT EDIT.\n";
  CHECK(compression(head + "CONFIG_RD_GZIP=y\nCONFIG_RD_LZ4=y\n") == Compression::Gzip);
  CHECK(compression(head + "# CONFIG_RD_GZIP is not set\nCONFIG_RD_LZ4=y\n") ==
        Compression::Lz4Legacy);
  CHECK(compression(head + "CONFIG_RD_XZ=y\n") == Compression::Xz);
  CHECK(compression(head + "CONFIG_X=y\n") == Compression::None);
  const std::string image = kernel_only(2);
  const auto without =
      parts_recipes("[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"hello\"\n");
  CHECK_FALSE(patch_image(load(image), {"boot", true}, without)->changed);
  // An edit that is left out puts nothing in: the image stays as it was.
  const auto skipped = parts_recipes(kCreate + "when = { layout = [\"generic\"] }\n");
  const Patched same = parts_patch(image, skipped, "boot");
  CHECK_FALSE(same.changed);
  CHECK(text(same.bytes.view()) == image);
  // Newer images have their ramdisk elsewhere.
  const std::string newer = BootBytes{.version = 4, .kernel = arm64_kernel("6.1.1-a")}.done();
  CHECK_FALSE(patch_image(load(newer), {"boot", true}, parts_recipes(kCreate))->changed);
}

TEST_CASE("create: prepare's target is boot where a recipe makes its ramdisk") {
  const LoadedImage boot = load(kernel_only(2));
  CHECK(choose_target({{"boot", &boot}}).error().code == ErrorCode::NoTarget);
  CHECK(value_of(choose_target({{"boot", &boot}}, {}, true)).partition == "boot");
  const LoadedImage newer = load(BootBytes{.version = 4, .kernel = arm64_kernel("6.1.1-a")}.done());
  CHECK_FALSE(choose_target({{"boot", &newer}}, {}, true));
}

TEST_CASE("fragment: one more behind the others, from a ramdisk or a folder, and back") {
  const std::string image = vendor_image();
  for (const std::string& from :
       {std::string("from = \"one.cpio.gz\"\n"), std::string("folder = \"files\"\n")}) {
    CAPTURE(from);
    const auto recipes = parts_recipes(kAdd + from);
    const Patched done = parts_patch(image, recipes, "vendor_boot");
    CHECK(fragments_of(done) == ":platform:0 recovery:recovery:0 mods:dlkm:7 tide:dlkm:5 ");
    check_undone(done, image);
    CHECK_FALSE(parts_patch(text(done.bytes.view()), recipes, "vendor_boot").changed);
    const auto parts = boot::ramdisk_parts(*load(text(done.bytes.view())).image);
    const Ramdisk added = value_of(parse_ramdisk(parts.back().bytes));
    if (from.starts_with("from")) {
      CHECK(at(added, "one") == "1");
      continue;
    }
    CHECK(added.compression() == Compression::Lz4Legacy);
    CHECK(at(added, "lib/tide.ko") == "module");
    CHECK((entry_at(added, *find_entry(added, "run")).mode() & 07777) == 0750);
    CHECK((entry_at(added, *find_entry(added, "lib/tide.ko")).mode() & 07777) == 0644);
  }
}

TEST_CASE("fragment: taken out in any place, added again, edited, all in one recipe") {
  const std::string image = vendor_image();
  struct Case {
    std::string name, type, board, left;
  };
  for (const Case& one :
       {Case{"recovery", "recovery", "", ":platform:0 mods:dlkm:7 "},
        Case{"mods", "dlkm", "board_id = [7]\n", ":platform:0 recovery:recovery:0 "},
        Case{"", "platform", "", "recovery:recovery:0 mods:dlkm:7 "}}) {
    CAPTURE(one.name);
    const auto recipes =
        parts_recipes("[[edit]]\nkind = \"fragment\"\nname = \"" + one.name + "\"\ntype = \"" +
                      one.type + "\"\nremove = true\n" + one.board);
    const Patched done = parts_patch(image, recipes, "vendor_boot");
    CHECK(fragments_of(done) == one.left);
    check_undone(done, image);
    CHECK_FALSE(parts_patch(text(done.bytes.view()), recipes, "vendor_boot").changed);
  }
  const Patched all = parts_patch(
      image,
      parts_recipes(
          "[[edit]]\nkind = \"fragment\"\nname = \"recovery\"\ntype = \"recovery\"\nremove = "
          "true\n" +
          kAdd + "from = \"one.cpio.gz\"\n" +
          "[[edit]]\nkind = \"put\"\nramdisk = \"vendor\"\nfragment = \"tide\"\npath = "
          "\"two\"\ntext = \"2\"\n[[edit]]\nkind = \"put\"\nramdisk = \"vendor\"\nfragment "
          "= \"mods\"\npath = \"four\"\ntext = \"4\"\n"),
      "vendor_boot");
  CHECK(fragments_of(all) == ":platform:0 mods:dlkm:7 tide:dlkm:5 ");
  const auto parts = boot::ramdisk_parts(*load(text(all.bytes.view())).image);
  CHECK(at(value_of(parse_ramdisk(parts[1].bytes)), "four") == "4");
  CHECK(at(value_of(parse_ramdisk(parts[2].bytes)), "two") == "2");
  check_undone(all, image);
}

TEST_CASE("fragment: what cannot be is an error, and what is there already is not put in twice") {
  const auto fails = [](const std::string& image, const std::string& edits,
                        const std::string& word) {
    const auto done = patch_image(load(image), {"vendor_boot", true}, parts_recipes(edits));
    REQUIRE_FALSE(done);
    CHECK(describe(done.error()).find(word) != std::string::npos);
  };
  VendorBootBytes older{.version = 3, .dtb = rich_tree()};
  older.ramdisk = gzip(CpioBytes{}.file("a", "x").done());
  fails(older.done(), kAdd + "from = \"one.cpio.gz\"\n", "no table of fragments");
  fails(vendor_image(),
        "[[edit]]\nkind = \"fragment\"\nname = \"mods\"\ntype = \"dlkm\"\nboard_id = "
        "[7]\nfrom = \"one.cpio.gz\"\n",
        "already");
  fails(vendor_image(),
        "[[edit]]\nkind = \"fragment\"\nname = \"mods\"\ntype = \"dlkm\"\nboard_id = "
        "[7]\nfolder = \"files\"\n",
        "already");
  fails(vendor_image(), kAdd + "from = \"hello\"\n", "hello");
  VendorBootBytes single{.dtb = rich_tree()};
  single.named = {{"", 1, gzip(CpioBytes{}.file("a", "x").done())}};
  fails(single.done(), "[[edit]]\nkind = \"fragment\"\nremove = true\n",
        "another fragment beside it");
  fails(older.done(), kAdd + "from = \"one.cpio.gz\"\n", "of header version 3");
  const auto told = [](const std::string& edits) {
    const TempDir dir;
    write(dir / "r.toml", kPartsHead + edits);
    std::string out;
    for (const Mistake& one : value_of(check_recipe((dir / "r.toml").string(), {})))
      out += std::to_string(one.line) + ":" + std::to_string(one.column) + " ";
    return out;
  };
  CHECK(told("[[edit]]\nkind = \"fragment\"\nname = \"" + std::string(32, 'a') +
             "\"\ntype = \"x\"\nremove = true\nfrom = \"y\"\n") == "5:8 6:8 7:10 ");
  CHECK(told("[[edit]]\nkind = \"put\"\nramdisk = \"vendor\"\npath = \"a\"\ntext = "
             "\"x\"\ncreate = true\n") == "8:10 ");
}

}  // namespace wexlo::test
