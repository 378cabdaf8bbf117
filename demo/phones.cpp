#include "demo/phones.hpp"

#include <fmt/format.h>

#include "base/output.hpp"
#include "demo/containers.hpp"
#include "demo/content.hpp"
#include "demo/images.hpp"
#include "demo/verified_writer.hpp"

namespace wexlo::demo {
namespace {

/// What the two phones differ in.
struct Phone {
  std::string codename, model, build, patch_level;
  std::uint32_t os_version = 0;  ///< packed
  std::uint64_t seed = 0;
  bool slotted = true;

  std::string fingerprint() const {
    return fmt::format("korvale/{0}/{0}:{1}:user/release-keys", codename, build);
  }
};

const Phone kVernier{"vernier",
                     "Tarn 2",
                     "12/KV1B.250301.007/20250301",
                     "2025-03-01",
                     12u << 25 | (2025 - 2000) << 4 | 3,
                     400};
const Phone kPlumbline{"plumbline",
                       "Tarn 1",
                       "10/KV0A.220704.001/20220704",
                       "2022-07-04",
                       10u << 25 | (2022 - 2000) << 4 | 7,
                       500,
                       false};

std::string properties(const Phone& phone) {
  return fmt::format(
      "ro.product.brand=korvale\nro.product.model={}\nro.product.device={}\n"
      "ro.build.fingerprint={}\nro.build.version.security_patch={}\nro.debuggable=0\n",
      phone.model, phone.codename, phone.fingerprint(), phone.patch_level);
}

/// Bytes of a kernel, of a ramdisk's program, and of partitions.
struct PhoneSizes {
  std::size_t kernel, program, boot, system, vendor, super;
};

constexpr PhoneSizes phone_sizes(const Phone& phone, FirmwareSize size) {
  if (size == FirmwareSize::Small)
    return {kMiB / 2, kMiB / 8, 4 * kMiB, (phone.slotted ? 3 : 4) * kMiB, kMiB, 8 * kMiB};
  if (phone.slotted) return {3 * kMiB, kMiB / 2, 16 * kMiB, 8 * kMiB, 4 * kMiB, 24 * kMiB};
  return {3 * kMiB, kMiB / 2, 12 * kMiB, 12 * kMiB, 0, 0};
}

/// A ramdisk that is the root: /init and all it needs. @param recovery  with a recovery in it, too
Bytes root_ramdisk(const Phone& phone, bool recovery, const PhoneSizes& sizes) {
  std::vector<File> files;
  for (const char* folder :
       {"dev", "mnt", "proc", "sys", "system", "system/bin", "system/etc", "system/etc/ramdisk"})
    files.push_back({folder, kFolder, {}});
  files.push_back({"etc", kLink, to_bytes("/system/etc")});
  files.push_back({"init", kProgram, elf_like(phone.seed + 1, sizes.program)});
  files.push_back({fmt::format("fstab.{}", phone.codename), kFile,
                   to_bytes(fmt::format("/dev/block/by-name/system  /system  ext4  ro  wait,{}avb\n"
                                        "/dev/block/by-name/userdata  /data  f2fs  noatime  "
                                        "wait,check,forceencrypt=footer\n",
                                        phone.slotted ? "slotselect," : ""))});
  files.push_back({"system/etc/ramdisk/build.prop", kFile, to_bytes(properties(phone))});
  if (recovery) {
    files.push_back({"system/bin/recovery", kProgram, elf_like(phone.seed + 2, sizes.program)});
    files.push_back({"res", kFolder, {}});
    files.push_back({"res/font.png", kFile, random_bytes(phone.seed + 3, 64u << 10)});
  }
  return ramdisk(files, Compression::Gzip);
}

/// Images with hash footers, and the vbmeta that covers them.
struct ImageFiles {
  explicit ImageFiles(const Phone& one) : phone(one) {}
  const Phone& phone;
  std::vector<ZipFile> files;
  std::vector<Bytes> descriptors;

  void add(const std::string& name, const Bytes& image, std::size_t partition_size) {
    HashedImage made = hashed_image(name, image, random_bytes(phone.seed + 50 + files.size(), 32),
                                    {phone.fingerprint(), phone.patch_level}, partition_size);
    descriptors.push_back(std::move(made.descriptor));
    files.push_back({name + ".img", std::move(made.image)});
  }
  void finish() {
    Bytes vbmeta = vbmeta_struct(descriptors, Signing::DemoKey);
    vbmeta.resize(align_up(vbmeta.size(), 4096));
    files.push_back({"vbmeta.img", std::move(vbmeta)});
  }
};

Bytes dtbo(const Phone& phone) {
  return dt_table({device_tree("Korvale " + phone.model + " rev A", "korvale," + phone.codename)});
}

Status write_out(const std::filesystem::path& path, const Result<Bytes>& bytes) {
  if (!bytes) return fail(in_file(bytes.error(), path.string()));
  return write_file(path, *bytes, Overwrite::Refuse);
}

}  // namespace

Status write_vernier(const std::filesystem::path& zip, FirmwareSize size, const Context& context) {
  const Phone& phone = kVernier;
  const PhoneSizes sizes = phone_sizes(phone, size);
  ImageFiles chain(phone);
  const Bytes tree = device_tree("Korvale Tarn 2", "korvale,vernier");
  chain.add("boot",
            boot_v1_v2({.version = 2,
                        .kernel = kernel(sizes.kernel, "5.10.81-korvale-vernier"),
                        .ramdisk = root_ramdisk(phone, true, sizes),
                        .dtb = tree,
                        .os_version = phone.os_version,
                        .name = "vernier",
                        .cmdline = "console=ttyKV0,115200 androidboot.hardware=vernier"}),
            sizes.boot);
  chain.add("dtbo", dtbo(phone), kMiB);
  chain.finish();
  WEXLO_CHECK(check_stop(context));
  const Bytes super =
      super_image({{"system_a", system_image(sizes.system, properties(phone))},
                   {"vendor_a", system_image(sizes.vendor, "ro.vendor.korvale=1\n", "vendor")},
                   {"system_b", {}},
                   {"vendor_b", {}}},
                  sizes.super, "korvale_dynamic_a");
  std::vector<ZipFile> images = std::move(chain.files);
  for (ZipFile& piece : sparse_set("super", super, 3))
    images.push_back(std::move(piece));
  images.push_back(
      {"android-info.txt", to_bytes("require board=vernier\nrequire version-bootloader=KVB-2.4\n"
                                    "require version-baseband=KVM-7.1\n")});
  WEXLO_TRY(Bytes inner, zip_bytes(images));
  const std::string folder = "vernier-kv1b.250301.007/";
  return write_out(
      zip, zip_bytes({{folder + "bootloader-vernier-KVB-2.4.img", random_bytes(phone.seed, kMiB)},
                      {folder + "radio-vernier-KVM-7.1.img", random_bytes(phone.seed + 9, kMiB)},
                      {folder + "image-vernier-kv1b.250301.007.zip", std::move(inner)}},
                     ".zip"));
}

Status write_plumbline(const std::filesystem::path& tar, FirmwareSize size,
                       const Context& context) {
  const Phone& phone = kPlumbline;
  const PhoneSizes sizes = phone_sizes(phone, size);
  ImageFiles chain(phone);
  const auto boot_class = [&](const Bytes& ramdisk, const Bytes& overlay) {
    return boot_v1_v2({.version = 1,
                       .kernel = kernel(sizes.kernel, "4.14.190-korvale-plumbline"),
                       .ramdisk = ramdisk,
                       .recovery_dtbo = overlay,
                       .os_version = phone.os_version,
                       .name = "plumbline",
                       .cmdline = "console=ttyKV0,115200 androidboot.hardware=plumbline"});
  };
  chain.add("boot", boot_class(root_ramdisk(phone, false, sizes), {}), sizes.boot);
  chain.add("recovery", boot_class(root_ramdisk(phone, true, sizes), dtbo(phone)), sizes.boot);
  chain.finish();
  const Bytes system = system_image(sizes.system, properties(phone));
  std::vector<ZipFile> files;
  for (ZipFile& image : chain.files)
    files.push_back(std::move(image));
  files.push_back({"system.img", sparse_piece(system, 0, system.size() / 4096)});
  for (ZipFile& file : files) {
    WEXLO_CHECK(check_stop(context));
    // As the usual packer does it: content size and checksum in the frame.
    static constexpr unsigned char kHeader[] = {4, 0x22, 0x4d, 0x18, 0x6c, 0x60, 0};
    WEXLO_TRY(file.data,
              encode(Compression::Lz4Frame, file.data,
                     {.level = 1, .header = to_bytes(std::as_bytes(std::span(kHeader)))}));
    file.name += ".lz4";
  }
  std::string name = tar.filename().string();
  if (name.ends_with(".md5")) name.resize(name.size() - 4);
  return write_out(tar, tar_with_sum(files, name));
}

}  // namespace wexlo::demo
