/// Where `prepare` takes edits of mounts and device trees: every image of the firmware that has
/// any.

#include "image/device_tree.hpp"
#include "program/support.hpp"
#include "support/patching.hpp"

namespace wexlo::test {
namespace {

const std::string kFstab = "/dev/block/vendor /vendor ext4 ro wait,avb\n";

/// A tree that declares a mount, by the device tree compiler.
std::string tree_with_mount() {
  const TempDir dir;
  write(dir / "t.dts", R"(/dts-v1/;
/ { model = "Korvale Tarn 2"; compatible = "korvale,vernier"; chosen { bootargs = "loud"; };
  firmware { android { compatible = "android,firmware";
    fstab { compatible = "android,fstab";
      vendor { compatible = "android,vendor"; dev = "/dev/block/vendor"; type = "ext4";
               mnt_flags = "ro"; fsmgr_flags = "wait,avb"; }; }; }; }; };
)");
  REQUIRE(run({"dtc", "-q", "-p", "256", "-o", (dir / "t.dtb").string(), (dir / "t.dts").string()})
              .exit_code == 0);
  return read(dir / "t.dtb");
}

std::string vendor_image(const std::string& tree, const std::string& file) {
  VendorBootBytes out{.dtb = tree};
  out.named = {{"", 1, gzip(CpioBytes{}.file(file, kFstab).done())}};
  return out.done() + std::string(8192, '\0');
}

std::string property_of(const std::string& trees, std::size_t number) {
  const auto all = dt::blobs(blob(trees));
  REQUIRE(number < all.size());
  return text(dt::flattened(all[number].fdt.view()).at("/chosen:bootargs"));
}

}  // namespace

TEST_CASE("prepare: mounts and trees are edited in dtb and vendor_kernel_boot as well") {
  const TempDir dir;
  const std::string tree = tree_with_mount(), room(4096, '\0');
  std::filesystem::create_directory(dir / "firmware");
  const std::map<std::string, std::string> images{
      {"boot", BootBytes{.version = 4, .kernel = arm64_kernel("5.10.1-tarn")}.done()},
      {"init_boot",
       BootBytes{
           .version = 4,
           .ramdisk = gzip(CpioBytes{}.entry("init", elf("arm64", "x"), 0100750, 0, 1).done())}
           .done()},
      {"vendor_boot", vendor_image(tree, "first_stage_ramdisk/fstab.vernier")},
      {"vendor_kernel_boot", vendor_image(tree, "fstab.kernel")},
      {"dtb", tree + tree + room}};
  for (const auto& [name, bytes] : images)
    write(dir / ("firmware/" + name + ".img"), bytes);
  write(dir / "r.toml",
        "format = 1\nname = \"homes\"\n[[edit]]\nkind = \"dt-property\"\nnode = \"/chosen\"\n"
        "property = \"bootargs\"\ntext = \"quiet\"\n[[edit]]\nkind = \"fstab-drop\"\n"
        "mount_point = \"/vendor\"\nflags = [\"avb\"]\n[[edit]]\nkind = \"fstab-add\"\n"
        "mount_point = \"/tide\"\ndevice = \"/dev/block/tide\"\ntype = \"ext4\"\nflags = "
        "[\"nofail\"]\n");
  program_json(dir, {"prepare", "firmware", "-r", "r.toml", "-o", "kit"});
  const auto made = [&](const std::string& name) {
    return read(dir / ("kit/flash/" + name + ".img"));
  };
  // As large as they were: a partition has no more room.
  CHECK(made("dtb").size() == images.at("dtb").size());
  for (const std::size_t number : {0u, 1u}) {
    CHECK(property_of(made("dtb"), number) == std::string("quiet\0", 6));
    const auto all = dt::blobs(blob(made("dtb")));
    const auto nodes = dt::flattened(all[number].fdt.view());
    CHECK(text(nodes.at("/firmware/android/fstab/vendor:fsmgr_flags")) == std::string("wait\0", 5));
    CHECK(text(nodes.at("/firmware/android/fstab/tide:dev")) ==
          std::string("/dev/block/tide\0", 16));
  }
  for (const auto& [name, file] : {std::pair("vendor_boot", "first_stage_ramdisk/fstab.vernier"),
                                   {"vendor_kernel_boot", "fstab.kernel"}}) {
    CAPTURE(name);
    const std::string image = made(name);
    const LoadedImage loaded = load(image);
    CHECK(property_of(text(loaded.image->section("dtb")->bytes.view()), 0) ==
          std::string("quiet\0", 6));
    const std::string fstab = at(ramdisk_of(as_view(image)), file);
    CHECK(fstab.find("ro wait\n") != std::string::npos);
    CHECK(fstab.find("/dev/block/tide /tide ext4 defaults nofail\n") != std::string::npos);
    CHECK(program(dir, {"restore", "kit/flash/" + std::string(name) + ".img", "-o",
                        std::string(name) + "-back.img"})
              .exit_code == 0);
    CHECK(read(dir / (std::string(name) + "-back.img")) == images.at(name));
  }
  // Restored out of the kit, all are as they were.
  CHECK(program(dir, {"restore", "kit", "-o", "stock"}).exit_code == 0);
  CHECK(read(dir / "stock/dtb.img") == images.at("dtb"));
}

}  // namespace wexlo::test
