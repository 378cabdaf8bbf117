#pragma once
/// What the tests of edits share: the examples of docs/recipes.md, the images that phones have, and
/// what holds for every patch.

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

namespace wexlo::test {

/// The TOML blocks of the documentation that are whole recipes of one kind.
inline std::vector<std::string> examples() {
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

inline std::string kind_of(const std::string& recipe) {
  const std::string key = "kind = \"";
  const auto at = recipe.find(key) + key.size();
  return recipe.substr(at, recipe.find('"', at) - at);
}

/// A tree with all that the examples name, by the device tree compiler.
inline std::string rich_tree() {
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
inline std::string signed_vbmeta() {
  std::string out = vbmeta(test::property_descriptor("a", "b"), 0, 1);
  constexpr std::size_t kHeader = 256, kAuthentication = 320;
  const std::string hash = sha256(out.substr(0, kHeader) + out.substr(kHeader + kAuthentication));
  return out.replace(kHeader, hash.size(), hash) + std::string(500, '\0');
}

inline std::string rich_kernel() {
  std::string kernel = arm64_kernel("5.10.43-korvale");
  kernel += noise(40, 3) + std::string("\0skip_initramfs\0", 16) + noise(400, 4);
  return padded(kernel, 8);
}

inline std::string rich_archive() {
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
inline std::vector<Named> images() {
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
inline void write_files(const TempDir& dir) {
  test::write(dir / "hello", elf("arm64", "the add-on"));
  test::write(dir / "pack.zip", test::zip({{"lib/arm64/tool", elf("arm64", "a tool")},
                                           {"lib/arm64/note.txt", "for the tide\n"}}));
  BootBytes other{.version = 2, .page = 2048, .kernel = arm64_kernel("5.10.99-korvale")};
  other.ramdisk = rich_archive();
  other.dtb = rich_tree();
  test::write(dir / "other-boot.img", other.done());
  // Turns the last bytes round, and adds a text.
  test::write(dir / "add-words",
              "#!/usr/bin/env python3\nimport sys\nword, text, before, after = sys.argv[1:]\n"
              "kernel = open(before, 'rb').read()\n"
              "open(after, 'wb').write(kernel[:-8] + kernel[:-9:-1] + text.encode() * 12)\n");
  test::write(dir / "fragment.cpio", CpioBytes{}.folder("lib").file("lib/tide.ko", "x").done());
}

inline std::vector<Recipe> load_example(const TempDir& dir, const std::string& text) {
  test::write(dir / "r.toml", text);
  auto recipes = load_recipes({(dir / "r.toml").string()}, {});
  REQUIRE_MESSAGE(recipes, (recipes ? "" : describe(recipes.error())));
  REQUIRE(bind_recipes(*recipes, {.architecture = "arm64"}));
  return std::move(*recipes);
}

inline void check_undone(const Patched& done, const std::string& stock) {
  const LoadedImage patched = load(text(done.bytes));
  const bool has_ramdisk = !boot::ramdisk_parts(*patched.image).empty();
  if (!has_ramdisk && patched.image->kind() != "vbmeta") return;
  const auto back = restore_image(patched, {}, {});
  REQUIRE_MESSAGE(back, (back ? "" : describe(back.error())));
  check_same(back->bytes, as_view(stock));
}

}  // namespace wexlo::test
