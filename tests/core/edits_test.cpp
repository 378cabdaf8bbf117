/// Every kind of edit, by the examples of docs/recipes.md themselves: each is done, accounted for,
/// done only once, and undone bit for bit, over the images that phones have.

#include "image/boot.hpp"
#include "image/kernel.hpp"
#include "recipe/patch.hpp"
#include "recipe/recipe.hpp"
#include "recipe/restore.hpp"
#include "recipe/way_back.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/places.hpp"
#include "support/run.hpp"
#include "support/vbmeta.hpp"
#include "verified/vbmeta.hpp"

using namespace wexlo;
using namespace wexlo::test;

namespace {

/// The TOML blocks of the documentation that are whole recipes of one kind.
std::vector<std::string> examples() {
  const std::string page =
      test::read(std::filesystem::path(test::source_folder()) / "docs/recipes.md");
  std::vector<std::string> out;
  const std::string begin = "```toml\n", end = "```\n";
  for (auto at = page.find(begin); at != page.npos; at = page.find(begin, at + 1)) {
    const auto from = at + begin.size();
    const std::string block = page.substr(from, page.find(end, from) - from);
    if (block.find("name = \"example-") != block.npos) out.push_back(block);
  }
  return out;
}

std::string kind_of(const std::string& recipe) {
  const std::string key = "kind = \"";
  const auto at = recipe.find(key) + key.size();
  return recipe.substr(at, recipe.find('"', at) - at);
}

/// A tree with all that the examples name, by the device tree compiler.
std::string rich_tree() {
  static const std::string tree = [] {
    const TempDir dir;
    test::write(dir / "t.dts", R"(/dts-v1/;
/ { model = "Korvale Tarn 2"; compatible = "korvale,vernier";
  chosen { bootargs = "loud"; };
  firmware { android { compatible = "android,firmware";
    vbmeta { compatible = "android,vbmeta"; parts = "vbmeta,boot"; };
    fstab { compatible = "android,fstab";
      system { compatible = "android,system"; dev = "/dev/block/system"; type = "ext4";
               mnt_flags = "ro"; fsmgr_flags = "wait,avb"; };
      vendor { compatible = "android,vendor"; dev = "/dev/block/vendor"; type = "ext4";
               mnt_flags = "ro"; fsmgr_flags = "wait,avb"; }; }; }; }; };
)");
    REQUIRE(run({"dtc", "-q", "-p", "64", "-o", (dir / "t.dtb").string(), (dir / "t.dts").string()})
                .exit_code == 0);
    return test::read(dir / "t.dtb");
  }();
  return tree;
}

/// A struct whose hash is true, as a signature's has to be.
std::string signed_vbmeta() {
  std::string out = vbmeta(test::property_descriptor("a", "b"), 0, 1);
  constexpr std::size_t kHeader = 256, kAuthentication = 320;
  const std::string hash = sha256(out.substr(0, kHeader) + out.substr(kHeader + kAuthentication));
  return out.replace(kHeader, hash.size(), hash) + std::string(500, '\0');
}

std::string rich_kernel() {
  std::string kernel = arm64_kernel("5.10.43-korvale");
  kernel += noise(40, 3) + std::string("\0skip_initramfs\0", 16) + noise(400, 4);
  return padded(kernel, 8);
}

std::string rich_archive() {
  return CpioBytes{}
      .folder("dev")
      .folder("system")
      .folder("system/etc")
      .device("dev/console", 5, 1)
      .entry("init", elf("arm64", "the stock init"), 0100750, 0, 1, 0, 2000, 1230768000)
      .link("default.prop", "prop.default")
      .file("prop.default", "ro.debuggable=0\nro.korvale=1\nro.build.version.sdk=30\n")
      .file("init.rc",
            "import /init.test.rc\n\non early-init\n    setprop ro.tide 0\n    start bench\n")
      .entry("system/etc/motd", "shared\n", 0100644, 77, 2)
      .entry("system/etc/issue", "", 0100644, 77, 2)
      .file("fstab.vernier",
            "/dev/block/system /system ext4 ro wait,avb=vbmeta,first_stage_mount\n"
            "/dev/block/vendor /vendor ext4 ro wait,avb\n")
      .done();
}

struct Named {
  std::string name, bytes, partition;
};

/// The matrix: header versions, packings of ramdisk and kernel, what stands around an image.
std::vector<Named> images() {
  const std::string archive = rich_archive(), kernel = rich_kernel(), tree = rich_tree();
  std::vector<Named> out;
  const auto add = [&](std::string name, std::string bytes, std::string partition) {
    out.push_back({std::move(name), std::move(bytes), std::move(partition)});
  };
  BootBytes v0{.version = 0, .page = 2048, .kernel = test::gzip(kernel) + tree + tree};
  v0.ramdisk = test::gzip(archive);
  add("v0, appended trees, zeros", v0.done() + std::string(70000, '\0'), "boot");
  BootBytes v1{.version = 1, .page = 4096, .kernel = kernel + tree, .ramdisk = archive};
  v1.id = BootBytes::Id::Sha256;
  add("v1, plain kernel and ramdisk", v1.done(), "boot");
  BootBytes v2{.version = 2, .page = 2048, .kernel = test::lz4_legacy(kernel, true)};
  v2.ramdisk = test::lz4_legacy(archive);
  v2.dtb = tree + tree;
  v2.recovery_dtbo = noise(100);
  add("v2, lz4, trailer", v2.done() + "SEANDROIDENFORCE" + std::string(70000, '\0'), "boot");
  add("v2, footer", with_footer(v2.done(), "boot", 1u << 18), "boot");
  v2.kernel = chipset_header("KERNEL", test::gzip(kernel)) + test::gzip(kernel);
  v2.ramdisk = chipset_header("ROOTFS", test::gzip(archive)) + test::gzip(archive);
  add("v2, chipset headers", v2.done(), "boot");
  BootBytes v4{.kernel = kernel, .ramdisk = test::zstd(archive)};
  v4.signature = std::string(4096, '\0');
  add("v4, zstd, prefix", sealed(v4.done()), "boot");
  BootBytes v3{.version = 3, .kernel = test::gzip(kernel, 9), .ramdisk = test::xz(archive)};
  add("v3, xz, other bytes behind", v3.done() + noise(300, 8), "boot");
  BootBytes init_boot{.ramdisk = test::lz4_legacy(archive) + test::lz4_legacy(archive)};
  add("init_boot, footer", with_footer(init_boot.done(), "init_boot", 1u << 18), "init_boot");
  VendorBootBytes vendor{.dtb = tree};
  vendor.bootconfig = "androidboot.hardware=vernier\nandroidboot.tide = 1\n";
  vendor.named = {{"", 1, test::lz4_legacy(archive)}, {"recovery", 2, test::gzip(archive)}};
  add("vendor_boot v4", vendor.done(), "vendor_boot");
  add("vendor_boot v4, footer", with_footer(vendor.done(), "vendor_boot", 1u << 18), "vendor_boot");
  add("vbmeta", signed_vbmeta(), "vbmeta");
  return out;
}

/// What the examples bring along.
void write_files(const TempDir& dir) {
  test::write(dir / "hello", elf("arm64", "the add-on"));
  test::write(dir / "pack.zip", test::zip({{"lib/arm64/tool", elf("arm64", "a tool")},
                                           {"lib/arm64/note.txt", "for the tide\n"}}));
  BootBytes other{.version = 2, .page = 2048, .kernel = arm64_kernel("5.10.99-korvale")};
  other.ramdisk = rich_archive();
  other.dtb = rich_tree();
  test::write(dir / "other-boot.img", other.done());
}

std::vector<Recipe> load_example(const TempDir& dir, const std::string& text) {
  test::write(dir / "r.toml", text);
  auto recipes = load_recipes({(dir / "r.toml").string()}, {});
  REQUIRE_MESSAGE(recipes, (recipes ? "" : describe(recipes.error())));
  REQUIRE(bind_recipes(*recipes, "arm64"));
  return std::move(*recipes);
}

void check_undone(const Patched& done, const std::string& stock) {
  const LoadedImage patched = load(text(done.bytes));
  const bool has_ramdisk = !boot::ramdisk_parts(*patched.image).empty();
  if (!has_ramdisk && patched.image->kind() != "vbmeta") return;
  const auto back = restore_image(patched, {}, {});
  REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
  check_same(back->bytes, as_view(stock));
}

}  // namespace

TEST_CASE("edits: each example is done, accounted for, done once, and undone bit for bit") {
  const TempDir dir;
  write_files(dir);
  std::map<std::string, int> done_by_kind;
  for (const std::string& example : examples()) {
    const auto recipes = load_example(dir, example);
    const std::string kind = kind_of(example);
    done_by_kind[kind];
    for (const Named& image : images()) {
      // Under the sanitizers some images of each kind will do.
      if (watched() && done_by_kind[kind] > 2) break;
      CAPTURE(kind);
      CAPTURE(image.name);
      const PatchRole role{image.partition, true};
      const auto done = patch_image(load(image.bytes), role, recipes);
      REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
      if (!done->changed) continue;
      ++done_by_kind[kind];
      REQUIRE(done->edits.front().outcome == Outcome::Applied);
      CHECK_FALSE(done->edits.front().effects.empty());
      CHECK_FALSE(done->edits.front().why.empty());
      CHECK_FALSE(done->ranges.empty());
      CHECK(done->way_back.in_image);
      check_undone(*done, image.bytes);
      const auto twice = patch_image(load(text(done->bytes)), role, recipes);
      REQUIRE_MESSAGE(twice, (twice ? "" : describe(twice.error())));
      CHECK_FALSE(twice->changed);
      CHECK(twice->edits.front().outcome == Outcome::AlreadyDone);
      check_same(twice->bytes, done->bytes);
      CHECK(verified::own_digest_matches(done->bytes)->value_or(true));
    }
  }
  CHECK(done_by_kind.size() == 20);
  for (const auto& [kind, count] : done_by_kind) {
    CAPTURE(kind);
    CHECK(count > 0);
  }
}

TEST_CASE("edits: all kinds together, and a second recipe on top; the way back leads to stock") {
  const TempDir dir;
  write_files(dir);
  std::vector<Recipe> all;
  for (const std::string& example : examples()) {
    const std::string kind = kind_of(example);
    // These take away what another example edits.
    if (kind == "move" || kind == "part") continue;
    for (Recipe& recipe : load_example(dir, example))
      all.push_back(std::move(recipe));
  }
  for (const Named& image : images()) {
    CAPTURE(image.name);
    const PatchRole role{image.partition, true};
    const auto done = patch_image(load(image.bytes), role, all);
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    REQUIRE(done->changed);
    check_undone(*done, image.bytes);
    const auto twice = patch_image(load(text(done->bytes)), role, all);
    REQUIRE_MESSAGE(twice, (twice ? "" : describe(twice.error())));
    check_same(twice->bytes, done->bytes);
    if (image.partition == "vbmeta") continue;
    const auto more = load_example(dir,
                                   "format = 1\nname = \"more\"\n[[edit]]\nkind = \"link\"\n"
                                   "path = \"tide/second\"\ntarget = \"tool\"\n");
    const auto second = patch_image(load(text(done->bytes)), role, more);
    REQUIRE_MESSAGE(second, (second ? "" : describe(second.error())));
    CHECK(second->changed);
    check_undone(*second, image.bytes);
  }
}

TEST_CASE("edits: their order is respected, and conflicts are told") {
  const TempDir dir;
  const auto set = [&](const std::string& name, const std::string& value) {
    auto recipes = load_example(dir, "format = 1\nname = \"" + name +
                                         "\"\n[[edit]]\nkind = \"property\"\nset = { \"ro.tide\" = "
                                         "\"" +
                                         value + "\" }\n");
    return std::move(recipes.front());
  };
  const std::string stock = BootBytes{.ramdisk = rich_archive()}.done();
  const PatchRole role{"boot", true};
  const auto value = [](const Patched& done) { return at(ramdisk_of(done.bytes), "prop.default"); };
  const auto ab = patch_image(load(stock), role, {set("a", "1"), set("b", "2")});
  const auto ba = patch_image(load(stock), role, {set("b", "2"), set("a", "1")});
  REQUIRE(ab);
  REQUIRE(ba);
  CHECK(value(*ab).find("ro.tide=2\n") != std::string::npos);
  CHECK(value(*ba).find("ro.tide=1\n") != std::string::npos);
  REQUIRE(ab->conflicts.size() == 1);
  CHECK(ab->conflicts[0].where == "/prop.default:ro.tide");
  CHECK(ab->conflicts[0].earlier.starts_with("a:"));
  CHECK(ab->conflicts[0].later.starts_with("b:"));
  CHECK(patch_image(load(stock), role, {set("a", "1"), set("b", "1")})->conflicts.empty());
  // Done again, the two undo each other and nothing is left to do.
  const auto again = patch_image(load(text(ab->bytes)), role, {set("a", "1"), set("b", "2")});
  REQUIRE(again);
  CHECK_FALSE(again->changed);
  check_same(again->bytes, ab->bytes);
}

TEST_CASE(
    "edits: texts are edited together, and what puts another file there afterwards conflicts") {
  const TempDir dir;
  write_files(dir);
  const std::string head = "format = 1\nname = \"x\"\n";
  const std::string avb =
      "[[edit]]\nkind = \"fstab-drop\"\nmount_point = \"/system\"\nflags = [\"avb\"]\n";
  const std::string wait =
      "[[edit]]\nkind = \"fstab-drop\"\nmount_point = \"/system\"\nflags = [\"wait\"]\n";
  const std::string back =
      "[[edit]]\nkind = \"fstab-set\"\nmount_point = \"/system\"\nflags = [\"avb\"]\n";
  const std::string line =
      "[[edit]]\nkind = \"line-add\"\nfile = \"fstab.vernier\"\nlines = [\"# tide\"]\n";
  const std::string no_line =
      "[[edit]]\nkind = \"line-remove\"\nfile = \"fstab.vernier\"\nline = \"# tide\"\n";
  const std::string put = "[[edit]]\nkind = \"put\"\npath = \"fstab.vernier\"\nfrom = \"hello\"\n";
  const auto conflicts = [&](const std::string& edits) {
    const auto done = patch_image(load(BootBytes{.ramdisk = rich_archive()}.done()), {"boot", true},
                                  load_example(dir, head + edits));
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    return done->conflicts.size();
  };
  CHECK(conflicts(avb + wait + line) == 0);
  CHECK(conflicts(avb + back) == 1);
  CHECK(conflicts(line + no_line) == 1);
  CHECK(conflicts(line + put) == 1);
  CHECK(conflicts(put) == 0);
}

TEST_CASE("edits: the header can be edited beside a ramdisk that nobody here reads") {
  const TempDir dir;
  const std::string stock =
      BootBytes{.version = 2, .ramdisk = "\x89LZO\0\r\n\x1a\n" + noise(500)}.done();
  const auto done =
      patch_image(load(stock), {"boot", true},
                  load_example(dir,
                               "format = 1\nname = \"x\"\n[[edit]]\nkind = \"header\"\n"
                               "set = { os_version = \"15.0.0\" }\n"));
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  CHECK(done->changed);
  CHECK_FALSE(done->way_back.in_image);
  const auto refused =
      patch_image(load(stock), {"boot", true},
                  load_example(dir,
                               "format = 1\nname = \"x\"\n[[edit]]\nkind = \"remove\"\n"
                               "path = \"init\"\n"));
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::Unsupported);
}

TEST_CASE("edits: lowered protections are told, each once") {
  const TempDir dir;
  const auto codes = [&](const std::string& edit, const std::string& image) {
    const auto done = patch_image(load(image), {"boot", true},
                                  load_example(dir, "format = 1\nname = \"x\"\n[[edit]]\n" + edit));
    REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
    std::string out;
    for (const Lowered& lowered : done->lowered)
      out += std::string(kind_of(lowered.code).name) + " ";
    return out;
  };
  const std::string boot =
      BootBytes{
          .version = 2, .kernel = rich_kernel(), .ramdisk = rich_archive(), .dtb = rich_tree()}
          .done();
  CHECK(codes("kind = \"fstab-drop\"\nmount_point = \"*\"\nflags = [\"avb\"]\n", boot) ==
        "protection-mount-verification ");
  CHECK(codes("kind = \"cmdline\"\nset = { \"androidboot.selinux\" = \"permissive\" }\n", boot) ==
        "protection-selinux ");
  CHECK(codes("kind = \"property\"\nset = { \"ro.debuggable\" = \"1\" }\n", boot) ==
        "protection-debugging ");
  CHECK(codes("kind = \"property\"\nset = { \"ro.tide\" = \"1\" }\n", boot).empty());
  CHECK(codes("kind = \"vbmeta-flags\"\nset = [\"verification-disabled\"]\n",
              vbmeta(test::property_descriptor("a", "b"), 0, 1)) == "protection-verified-boot ");
  CHECK(codes("kind = \"vbmeta-flags\"\nset = [\"hashtree-disabled\"]\n",
              vbmeta(test::property_descriptor("a", "b"), 0, 1)) ==
        "protection-mount-verification ");
}

TEST_CASE("edits: kernels in every form take a byte pattern; with the wrong count none does") {
  const std::string kernel = rich_kernel(), tree = rich_tree();
  const TempDir dir;
  const std::string edit =
      "format = 1\nname = \"x\"\n[[edit]]\nkind = \"kernel-bytes\"\nfind_text = "
      "\"skip_initramfs\"\n"
      "replace_text = \"wexlo_ramdisks\"\n";
  for (const std::string& section :
       {kernel, test::gzip(kernel, 9), test::lz4_legacy(kernel), test::lz4_legacy(kernel, true),
        test::xz(kernel), test::lzma(kernel), test::bzip2(kernel), test::zstd(kernel),
        test::lz4_frame(kernel)})
    for (const std::string& behind : {std::string(), tree, tree + tree}) {
      const std::string stock =
          BootBytes{
              .version = 2, .kernel = section + behind, .ramdisk = rich_archive(), .dtb = tree}
              .done();
      const auto done = patch_image(load(stock), {"boot", true}, load_example(dir, edit));
      REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
      const auto image = load(text(done->bytes));
      const Blob now = image.image->section("kernel")->bytes;
      const auto body = kernel::open_body(now);
      REQUIRE(body);
      std::string wanted = kernel;
      wanted.replace(wanted.find("skip_initramfs"), 14, "wexlo_ramdisks");
      CHECK(text(body->decoded.view()).starts_with(wanted));
      CHECK(text(now.view()).ends_with(behind));
      check_undone(*done, stock);
    }
  const std::string stock =
      BootBytes{.kernel = test::gzip(kernel + kernel), .ramdisk = rich_archive()}.done();
  const auto refused = patch_image(load(stock), {"boot", true}, load_example(dir, edit));
  REQUIRE_FALSE(refused);
  CHECK(refused.error().code == ErrorCode::BadValue);
  CHECK(refused.error().expected == "1");
  CHECK(refused.error().found == "2");
  CHECK(patch_image(load(stock), {"boot", true}, load_example(dir, edit + "count = 2\n")));
}

TEST_CASE("edits: whole parts are held against the stock ones") {
  const TempDir dir;
  const std::string stock = BootBytes{.version = 2,
                                      .kernel = test::gzip(rich_kernel()) + rich_tree(),
                                      .ramdisk = rich_archive(),
                                      .dtb = rich_tree()}
                                .done();
  const auto put = [&](const std::string& part, const std::string& file, const std::string& more) {
    test::write(dir / "part", file);
    return patch_image(load(stock), {"boot", true},
                       load_example(dir,
                                    "format = 1\nname = \"x\"\n[[edit]]\nkind = \"part\"\n"
                                    "from = \"part\"\npart = \"" +
                                        part + "\"\n" + more));
  };
  const auto code = [&](const std::string& part, const std::string& file,
                        const std::string& more = "") {
    const auto done = put(part, file, more);
    return done ? std::string("done") : std::string(code_name(done.error().code));
  };
  CHECK(code("kernel", arm64_kernel("5.10.99-other")) == "done");
  CHECK(code("kernel", arm64_kernel("5.15.1-other")) == "mismatch");
  CHECK(code("kernel", arm64_kernel("5.15.1-other"), "other_version = true\n") == "done");
  CHECK(code("kernel", arm64_kernel("5.10.1-android12-9-x")) == "mismatch");
  CHECK(code("dtb", rich_tree() + rich_tree()) == "done");
  CHECK(code("dtb", device_tree("Other", "other,phone")) == "mismatch");
  CHECK(code("dtb", "no tree at all") == "mismatch");
  CHECK(code("ramdisk", test::gzip(rich_archive() + rich_archive())) == "done");
  CHECK(code("ramdisk", test::lz4_frame(rich_archive())) == "mismatch");
  CHECK(code("ramdisk", CpioBytes{}.file("a", "b").done()) == "mismatch");
  CHECK(code("ramdisk", CpioBytes{}.file("init", elf("x86_64", "x"), 0100755).done()) ==
        "mismatch");
  CHECK(code("ramdisk", "nothing of the kind") == "bad-magic");
  // A new kernel without trees gets the stock ones, and the way back is the stock kernel whole.
  const auto done = put("kernel", test::lz4_legacy(arm64_kernel("5.10.99-other")), "");
  REQUIRE(done);
  CHECK(std::ranges::any_of(done->edits[0].details, [](const std::string& line) {
    return line.starts_with("kernel 5.10") && line.ends_with("-> 5.10.99-other");
  }));
  const auto image = load(text(done->bytes));
  CHECK(text(image.image->section("kernel")->bytes.view()).ends_with(rich_tree()));
  check_undone(*done, stock);
}

TEST_CASE("edits: recovery's ramdisk is a fragment of vendor_boot where there is one") {
  const TempDir dir;
  VendorBootBytes bytes;
  bytes.named = {{"", 1, test::lz4_legacy(first_ramdisk())},
                 {"rec", 2, test::lz4_legacy(CpioBytes{}.file("a", "b").done())}};
  const auto done =
      patch_image(load(bytes.done()), {"vendor_boot", true},
                  load_example(dir,
                               "format = 1\nname = \"x\"\n[[edit]]\nkind = \"chmod\"\nramdisk = "
                               "\"recovery\"\npath = \"a\"\nmode = 0o600\n"));
  REQUIRE_MESSAGE(done, (done ? "" : describe(done.error())));
  CHECK(done->edits[0].outcome == Outcome::Applied);
}
