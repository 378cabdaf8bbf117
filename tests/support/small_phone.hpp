#pragma once
/// A phone of the newest kind, small: its boot chain in parts that can be spoilt one at a time.

#include <map>
#include <set>

#include "check/check.hpp"
#include "support/boot.hpp"
#include "support/check.hpp"

namespace wexlo::test {

inline const std::string kFstab =
    "system /system ext4 ro wait,avb=vbmeta,logical,first_stage_mount\n"
    "/dev/block/by-name/userdata /data f2fs noatime wait,fileencryption=aes-256-xts\n";

inline std::string module(const std::string& release) {
  return std::string(
             "\x7f"
             "ELF",
             4) +
         noise(200, 3) + std::string(1, '\0') + "vermagic=" + release + " SMP preempt" +
         std::string(1, '\0');
}

/// A phone of the newest kind, small, in parts that can be spoilt one at a time.
struct SmallPhone {
  std::string release = "5.10.157-android13-4-00001";
  BootBytes boot{.version = 4, .kernel = arm64_kernel(release)};
  BootBytes init{.version = 4};
  VendorBootBytes vendor{.version = 4, .cmdline = "console=ttyKV0 bootconfig"};
  std::string fstab = kFstab, modules_list = "a.ko\n", built_for = release;
  CpioBytes generic;
  std::map<std::string, std::string> extra;  ///< further files, or others instead
  std::set<std::string> without;

  SmallPhone() {
    generic.folder("dev").folder("system").file("init",
                                                std::string("\x7f"
                                                            "ELF") +
                                                    noise(99),
                                                0100750);
    vendor.dtb = device_tree("Tarn 3", "korvale,gnomon");
    vendor.bootconfig = "androidboot.hardware=gnomon\n";
  }
  std::string vendor_ramdisk() const {
    CpioBytes cpio;
    cpio.folder("first_stage_ramdisk").folder("lib").folder("lib/modules");
    cpio.file("first_stage_ramdisk/fstab.gnomon", fstab);
    cpio.file("lib/modules/a.ko", module(built_for));
    cpio.file("lib/modules/modules.load", modules_list);
    return lz4_legacy(cpio.done());
  }
  std::map<std::string, std::string> images() const {
    BootBytes first = init;
    if (first.ramdisk.empty()) {
      CpioBytes cpio = generic;
      first.ramdisk = lz4_legacy(cpio.done());
    }
    VendorBootBytes other = vendor;
    if (other.named.empty() && other.ramdisk.empty()) other.ramdisk = vendor_ramdisk();
    std::map<std::string, std::string> out{
        {"boot", boot.done()}, {"init_boot", first.done()}, {"vendor_boot", other.done()}};
    for (const auto& [name, bytes] : extra)
      out[name] = bytes;
    for (const std::string& name : without)
      out.erase(name);
    return out;
  }
  static void put(const TempDir& folder, const std::map<std::string, std::string>& images) {
    for (const auto& [name, bytes] : images)
      write(folder.path() / (name + ".img"), bytes);
  }
  Checked check(CheckOptions options = {}) const {
    TempDir folder;
    put(folder, images());
    return value_of(check_paths({folder.path().string()}, options, {.jobs = 2}));
  }
  Checked against(const SmallPhone& stock) const {
    TempDir folder;
    put(folder, stock.images());
    return check({.against = folder.path().string()});
  }
};

}  // namespace wexlo::test
