#pragma once
/// A bench's day, small: a package of a phone with two slots, its sheet, a recipe.

#include <set>

#include "program/support.hpp"
#include "support/boot.hpp"
#include "support/containers.hpp"
#include "support/of_build.hpp"
#include "support/patching.hpp"
#include "support/payload.hpp"
#include "support/vbmeta.hpp"

namespace wexlo::test {

inline constexpr const char* kBuild = "korvale/gnomon/gnomon:16/KV3A.1/20260905:user/release-keys";

inline const std::string kBenchFstab =
    "system /system ext4 ro wait,slotselect,avb=vbmeta,logical,first_stage_mount\n"
    "/dev/block/by-name/userdata /data f2fs noatime wait,fileencryption=aes-256-xts\n";

inline const std::string kRecipe =
    "format = 1\nname = \"tests\"\n[[edit]]\nkind = \"put\"\npath = \"init\"\nfrom = \"hello\"\n"
    "keep_stock = true\n";
inline const std::string kFlags =
    "format = 1\nname = \"flags\"\n[[edit]]\nkind = \"vbmeta-flags\"\nset = "
    "[\"verification-disabled\", \"hashtree-disabled\"]\n";

/// A file system as far as its head and its property file go.
inline std::string file_system(std::size_t size, const std::string& properties) {
  std::string out(size, '\0');
  out[1080] = '\x53';
  out[1081] = '\xef';
  out.replace(8192, properties.size(), properties);
  return out;
}

/// gnomon, small: two slots, init_boot, a chain, a package with a payload, its phone's sheet.
struct Bench {
  Bench() {
    images["boot"] =
        with_footer(BootBytes{.kernel = arm64_kernel("5.10.1")}.done(), "boot", 1u << 18);
    images["init_boot"] =
        with_footer(BootBytes{.ramdisk = lz4_legacy(init_ramdisk())}.done(), "init_boot", 1u << 18);
    images["vendor_boot"] = with_footer(
        VendorBootBytes{
            .version = 4,
            .ramdisk = lz4_legacy(CpioBytes{}
                                      .folder("first_stage_ramdisk")
                                      .file("first_stage_ramdisk/fstab.gnomon", kBenchFstab)
                                      .done()),
            .dtb = device_tree("Tarn 3", "korvale,gnomon"),
            .bootconfig = "androidboot.hardware=gnomon\n"}
            .done(),
        "vendor_boot", 1u << 18);
    images["vbmeta"] = padded(vbmeta(hash_descriptor("init_boot", "x", "s")), 4096);
    images["system"] = file_system(2 * kMiB, "ro.x=1\n");
    images["product"] = file_system(kMiB, "ro.y=1\n");
    write(dir / "ota.zip", ota());
    write(dir / "r.toml", kRecipe);
    write(dir / "flags.toml", kFlags);
    write(dir / "hello", elf("arm64", "the add-on"));
    write(dir / "sheet.toml", sheet());
  }

  [[nodiscard]] std::string ota(const std::string& build = kBuild) const {
    PayloadBytes payload;
    for (const char* name : {"boot", "init_boot", "vendor_boot", "system", "product", "vbmeta"})
      payload.partitions.push_back(partition_of(name, images.at(name), 1, 64));
    payload.groups = {{"main", {"system", "product"}}};
    return zip(
        {{"META-INF/com/android/metadata",
          "post-build=" + build + "\npre-device=gnomon\npost-security-patch-level=2026-09-05\n"},
         {"payload.bin", payload.done()}});
  }
  [[nodiscard]] static std::string sheet(const std::string& more = "") {
    return std::string(
               "[phone]\ncodename = \"gnomon\"\narchitecture = \"arm64\"\n[build]\n"
               "fingerprint = \"") +
           kBuild +
           "\"\npatch_level = \"2026-09-05\"\n[state]\nlock = \"unlocked\"\nslots = \"2\"\n"
           "current_slot = \"a\"\n[partitions]\nboot_a = 262144\ninit_boot_a = 262144\n"
           "vendor_boot_a = 262144\nvbmeta_a = 65536\n" +
           more;
  }
  [[nodiscard]] Json prepare(std::vector<std::string> more, int wanted = 0,
                             const std::string& kit = "kit") const {
    std::vector<std::string> words{"prepare", "ota.zip", "-o", kit};
    words.insert(words.end(), more.begin(), more.end());
    return program_json(dir, words, wanted);
  }
  [[nodiscard]] Json plan(const std::string& kit = "kit") const {
    return Json::parse(read(dir / (kit + "/report.json")));
  }
  TempDir dir;
  std::map<std::string, std::string> images;
};

inline std::string codes(const Json& document) {
  std::string out;
  for (const Json& one : document["findings"])
    out += one["level"].get<std::string>() + ":" + one["code"].get<std::string>() + " ";
  return out;
}

inline std::string acts(const Json& steps) {
  std::string out;
  for (const Json& one : steps)
    out += one["do"].get<std::string>() +
           (one.contains("partition") ? ":" + one["partition"].get<std::string>() : "") + " ";
  return out;
}

inline std::set<std::string> files_of(const std::filesystem::path& folder) {
  std::set<std::string> out;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder))
    if (entry.is_regular_file())
      out.insert(entry.path().lexically_relative(folder).generic_string());
  return out;
}

}  // namespace wexlo::test
