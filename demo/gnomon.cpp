#include "demo/gnomon.hpp"

#include <fmt/format.h>

#include "base/output.hpp"
#include "demo/containers.hpp"
#include "demo/content.hpp"
#include "demo/images.hpp"
#include "demo/verified_writer.hpp"

namespace wexlo::embedded {
std::string_view demo_file(std::string_view name);
}

namespace wexlo::demo {
namespace {

struct Build {
  std::string_view fingerprint, patch_level, incremental;
  std::int64_t built;
};
constexpr Build kNew{"korvale/gnomon/gnomon:16/KV3A.260905.004/20260905:user/release-keys",
                     "2026-09-05", "20260905", 1788588000};  ///< 06:00 UTC
constexpr Build kOld{"korvale/gnomon/gnomon:16/KV3A.260805.002/20260805:user/release-keys",
                     "2026-08-05", "20260805", 1785909600};

std::string properties(const Build& build) {
  return fmt::format(
      "ro.product.brand=korvale\nro.product.model=Tarn 3\nro.product.device=gnomon\n"
      "ro.build.fingerprint={}\nro.build.version.security_patch={}\nro.debuggable=0\n",
      build.fingerprint, build.patch_level);
}

Bytes generic_ramdisk(const Build& build) {
  std::vector<File> files;
  for (const char* folder : {"dev", "first_stage_ramdisk", "metadata", "mnt", "proc", "sys",
                             "system", "system/bin", "system/etc", "system/etc/ramdisk"})
    files.push_back({folder, kFolder, {}});
  files.push_back({"etc", kLink, to_bytes("/system/etc")});
  files.push_back({"init", kProgram, elf_like(11, kMiB)});
  files.push_back({"system/bin/block_helper", kProgram, elf_like(12, kMiB / 4)});
  files.push_back({"system/etc/ramdisk/build.prop", kFile, to_bytes(properties(build))});
  return ramdisk(files, Compression::Lz4Legacy);
}

Bytes vendor_ramdisk() {
  const std::string fstab =
      "# <source> <mount point> <type> <mount flags> <manager flags>\n"
      "system      /system    ext4  ro,barrier=1        wait,slotselect,avb=vbmeta_system,logical,"
      "first_stage_mount\n"
      "product     /product   ext4  ro,barrier=1        wait,slotselect,avb=vbmeta_system,logical,"
      "first_stage_mount\n"
      "vendor      /vendor    ext4  ro,barrier=1        wait,slotselect,avb,logical,"
      "first_stage_mount\n"
      "/dev/block/by-name/metadata  /metadata  ext4  noatime,nosuid,nodev  wait,check,formattable,"
      "first_stage_mount\n"
      "/dev/block/by-name/userdata  /data  f2fs  noatime,nosuid,nodev  latemount,wait,check,"
      "fileencryption=aes-256-xts:aes-256-cts:v2,quota,formattable\n";
  std::vector<File> files;
  for (const char* folder : {"first_stage_ramdisk", "lib", "lib/modules"})
    files.push_back({folder, kFolder, {}});
  files.push_back({"first_stage_ramdisk/fstab.gnomon", kFile, to_bytes(fstab)});
  std::string modules;
  for (std::uint64_t i = 0; i < 6; ++i) {
    const std::string name = fmt::format("korvale-block{}.ko", i);
    files.push_back({"lib/modules/" + name, kFile, elf_like(20 + i, kMiB / 4)});
    modules += name + "\n";
  }
  files.push_back({"lib/modules/modules.load", kFile, to_bytes(modules)});
  return ramdisk(files, Compression::Lz4Legacy);
}

/// Collects images with their footers, and the descriptors that vbmeta takes from them.
struct Chain {
  const Build& build;
  std::vector<PayloadPartition> partitions{};
  std::vector<Bytes> descriptors{};

  void add_hashed(const std::string& name, const Bytes& image, std::size_t partition_size) {
    const Bytes salt = random_bytes(1000 + partitions.size(), 32);
    HashedImage made = hashed_image(
        name, image, salt, {std::string(build.fingerprint), std::string(build.patch_level)},
        partition_size);
    descriptors.push_back(std::move(made.descriptor));
    partitions.push_back({name, std::move(made.image)});
  }
};

Bytes system_salt() {
  return random_bytes(2000, 32);
}

/// Bytes of its partitions, and of the kernel.
struct Sizes {
  std::size_t boot, init_boot, vendor_boot, dtbo, system, product, kernel;
};

constexpr Sizes sizes_of(FirmwareSize size) {
  if (size == FirmwareSize::Small)
    return {4 * kMiB, 4 * kMiB, 4 * kMiB, kMiB, 4 * kMiB, 2 * kMiB, kMiB};
  return {32 * kMiB, 8 * kMiB, 24 * kMiB, 2 * kMiB, 16 * kMiB, 6 * kMiB, 6 * kMiB};
}

/// What the maker puts on top: little, in much room.
Bytes product_image(const Build& build, std::size_t partition) {
  Bytes out(partition - kMiB);
  const Bytes small = system_image(
      kMiB, fmt::format("ro.product.build.fingerprint={}\n", build.fingerprint), "product");
  std::ranges::copy(small, out.begin());
  return out;
}

Bytes padded(Bytes bytes, std::size_t size) {
  bytes.resize(size);
  return bytes;
}

}  // namespace

std::vector<PayloadPartition> gnomon_images(const GnomonOptions& options) {
  const Build& build = options.older ? kOld : kNew;
  Sizes sizes = sizes_of(options.size);
  if (options.system_mib != 0) sizes.system = options.system_mib * kMiB;
  Chain chain{build};
  Bytes image = kernel(sizes.kernel);
  // The older kernel differs in a few places, as two builds of one month do.
  if (options.older)
    for (std::size_t at = 1 << 16; at < image.size(); at += 3 * kMiB)
      image[at] ^= std::byte{0x5a};
  chain.add_hashed("boot", boot_v4(image, {}, ""), sizes.boot);
  chain.add_hashed("init_boot", boot_v4({}, generic_ramdisk(build), ""), sizes.init_boot);
  chain.add_hashed("vendor_boot",
                   vendor_boot_v4(vendor_ramdisk(), device_tree("Korvale Tarn 3", "korvale,gnomon"),
                                  "console=ttyKV0,115200 loglevel=4 bootconfig",
                                  "androidboot.hardware=gnomon\nandroidboot.memcg=1\n"),
                   sizes.vendor_boot);
  chain.add_hashed("dtbo",
                   dt_table({device_tree("Korvale Tarn 3 rev A", "korvale,gnomon-a"),
                             device_tree("Korvale Tarn 3 rev B", "korvale,gnomon-b")}),
                   sizes.dtbo);

  const std::size_t content = sizes.system - 2 * kMiB;  // room for the tree and the footer
  const Bytes system = system_image(content, properties(build));
  const HashTree tree = hash_tree("system", system, system_salt());
  const Bytes system_vbmeta = vbmeta_struct({tree.descriptor}, Signing::None);
  chain.partitions.push_back({"system", with_footer(system, tree.tree, system_vbmeta, sizes.system),
                              GeneratedTree{system.size(), tree.tree.size(), system_salt()}, true});
  const Bytes product = product_image(build, sizes.product);
  const HashTree product_tree = hash_tree("product", product, system_salt());
  chain.partitions.push_back(
      {"product",
       with_footer(product, product_tree.tree,
                   vbmeta_struct({product_tree.descriptor}, Signing::None), sizes.product),
       {},
       true});
  chain.partitions.push_back(
      {"vbmeta_system",
       padded(vbmeta_struct({tree.descriptor, product_tree.descriptor}, Signing::DemoKey), 65536)});

  std::vector<Bytes> top{chain_descriptor("vbmeta_system", 2)};
  top.insert(top.end(), chain.descriptors.begin(), chain.descriptors.end());
  chain.partitions.push_back({"vbmeta", padded(vbmeta_struct(top, Signing::DemoKey), 65536)});
  return std::move(chain.partitions);
}

namespace {

std::string metadata(const Build& build) {
  return fmt::format(
      "ota-required-cache=0\nota-type=AB\npost-build={}\npost-build-incremental={}\n"
      "post-sdk-level=36\npost-security-patch-level={}\npost-timestamp={}\npre-device=gnomon\n",
      build.fingerprint, build.incremental, build.patch_level, build.built);
}

constexpr const char* kMetadata = "META-INF/com/android/metadata";

}  // namespace

Status write_gnomon(const std::filesystem::path& zip, const GnomonOptions& options,
                    const Context& context) {
  const Build& build = options.older ? kOld : kNew;
  WEXLO_TRY(Bytes payload, full_payload(gnomon_images(options), build.built,
                                        std::string(build.patch_level), context));
  return write_zip(zip,
                   {{kMetadata, to_bytes(metadata(build))}, {"payload.bin", std::move(payload)}});
}

Status write_generic_system(const std::filesystem::path& image) {
  constexpr std::size_t kSize = 26 * kMiB;
  Bytes out(kSize);
  const Bytes small = system_image(
      kMiB,
      "ro.product.cpu.abilist=arm64-v8a\nro.build.ab_update=true\n"
      "ro.build.fingerprint=tidestreet/generic/generic:16/TS1/20260910:userdebug/test-keys\n"
      "ro.build.version.security_patch=2026-09-05\n");
  std::ranges::copy(small, out.begin());
  return write_file(image, sparse_piece(out, 0, out.size() / 4096), Overwrite::Refuse);
}

Status write_gnomon_incremental(const std::filesystem::path& zip, const Context& context) {
  WEXLO_TRY(Bytes payload, incremental_payload(gnomon_images({.older = true}), gnomon_images(),
                                               kNew.built, std::string(kNew.patch_level), context));
  const std::string text = metadata(kNew) + fmt::format("pre-build={}\npre-build-incremental={}\n",
                                                        kOld.fingerprint, kOld.incremental);
  return write_zip(zip, {{kMetadata, to_bytes(text)}, {"payload.bin", std::move(payload)}});
}

std::string_view host_processor() {
#if defined(__aarch64__)
  return "arm64";
#else
  return "x86_64";
#endif
}

std::map<std::string, std::string_view> bench_files() {
  std::map<std::string, std::string_view> out;
  for (const char* name :
       {"gnomon-properties.txt", "gnomon-notes.toml", "gnomon-newer.toml", "vernier.toml",
        "vernier-other-variant.toml", "plumbline.toml", "plumbline-other-phone.toml", "tray.toml"})
    out.emplace(name, embedded::demo_file(name));
  return out;
}

AddOn add_on() {
  AddOn out{.recipe = embedded::demo_file("recipe.toml")};
  out.programs[std::string(host_processor())] = embedded::demo_file("hello-host");
  // Empty where no compiler for the invented phones was there.
  if (const auto program = embedded::demo_file("hello-arm64"); !program.empty())
    out.programs["arm64"] = program;
  return out;
}

}  // namespace wexlo::demo
