/// Where edits act, in words.

#include "recipe/edit.hpp"

namespace wexlo {

std::string_view home_images(Home home) {
  switch (home) {
    case Home::StartRamdisk: return "init_boot, else boot";
    case Home::RecoveryRamdisk: return "recovery, else boot or vendor_boot";
    case Home::VendorRamdisk: return "vendor_boot";
    case Home::Mounts: return "every image with an fstab";
    case Home::Cmdline: return "boot or vendor_boot";
    case Home::Bootconfig: return "vendor_boot";
    case Home::Header: return "the image that starts the system";
    case Home::Kernel: return "boot";
    case Home::Trees: return "boot, vendor_boot, vendor_kernel_boot, dtb or dtbo";
    case Home::Vbmeta: return "vbmeta, or boot where a phone has no vbmeta";
  }
  return "";
}

std::string_view home_name(Home home) {
  switch (home) {
    case Home::StartRamdisk: return "the ramdisk that starts the system";
    case Home::RecoveryRamdisk: return "recovery's ramdisk";
    case Home::VendorRamdisk: return "the vendor ramdisk";
    case Home::Mounts: return "mount points";
    case Home::Cmdline: return "the kernel's command line";
    case Home::Bootconfig: return "the bootconfig";
    case Home::Header: return "the header";
    case Home::Kernel: return "the kernel";
    case Home::Trees: return "the device trees";
    case Home::Vbmeta: return "the verification flags of the chain";
  }
  return "";
}

}  // namespace wexlo
