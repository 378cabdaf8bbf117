#include "support/boot.hpp"

namespace wexlo::test {
namespace {

std::uint32_t size32(const std::string& bytes) {
  return static_cast<std::uint32_t>(bytes.size());
}

std::string id_of(const BootBytes& b) {
  std::string all;
  const auto add = [&](const std::string& part) { all += part + le32(size32(part)); };
  add(b.kernel);
  add(b.ramdisk);
  add(b.second);
  if (b.version >= 1) add(b.recovery_dtbo);
  if (b.version >= 2) add(b.dtb);
  if (b.id == BootBytes::Id::None) return field("", 32);
  return field(b.id == BootBytes::Id::Sha1 ? sha1(all) : sha256(all), 32);
}

std::string old_header(const BootBytes& b) {
  const std::uint32_t base = 0x10000000;
  std::string h = "ANDROID!" + le32(size32(b.kernel)) + le32(base + 0x8000) +
                  le32(size32(b.ramdisk)) + le32(base + 0x1000000) + le32(size32(b.second)) +
                  le32(base + 0xf00000) + le32(base + 0x100) +
                  le32(static_cast<std::uint32_t>(b.page)) + le32(b.version) + le32(b.os_version) +
                  field(b.name, 16) + field(b.cmdline.substr(0, 511), 512) + id_of(b) +
                  field(b.cmdline.size() > 511 ? b.cmdline.substr(511) : "", 1024);
  if (b.version >= 1) {
    const auto up = [&](const std::string& s) { return padded(s, b.page).size(); };
    const std::uint64_t at = b.page + up(b.kernel) + up(b.ramdisk) + up(b.second);
    h += le32(size32(b.recovery_dtbo)) + le64(b.recovery_dtbo.empty() ? 0 : at) +
         le32(b.version == 1 ? 1648 : 1660);
  }
  if (b.version >= 2) h += le32(size32(b.dtb)) + le64(base + 0x1f00000);
  return h;
}

std::string new_header(const BootBytes& b) {
  std::string h = "ANDROID!" + le32(size32(b.kernel)) + le32(size32(b.ramdisk)) +
                  le32(b.os_version) + le32(b.version == 3 ? 1580 : 1584) + field("", 16) +
                  le32(b.version) + field(b.cmdline, 1536);
  if (b.version == 4) h += le32(size32(b.signature));
  return h;
}

}  // namespace

std::string BootBytes::done() const {
  const std::size_t unit = version >= 3 ? 4096 : page;
  std::string out = padded(version >= 3 ? new_header(*this) : old_header(*this), unit);
  out += padded(kernel, unit) + padded(ramdisk, unit);
  if (version <= 2) out += padded(second, unit);
  if (version == 1 || version == 2) out += padded(recovery_dtbo, unit);
  if (version == 2) out += padded(dtb, unit);
  if (version == 4) out += padded(signature, unit);
  return out;
}

std::string VendorBootBytes::done() const {
  std::string table;
  std::vector<std::size_t> sizes = fragments;
  if (sizes.empty()) sizes.push_back(ramdisk.size());
  std::size_t at = 0;
  for (const std::size_t size : sizes) {
    table += le32(static_cast<std::uint32_t>(size)) + le32(static_cast<std::uint32_t>(at)) +
             le32(1) + field(at == 0 ? "" : "dlkm", 32) + field("", 64);
    at += size;
  }
  std::string h = "VNDRBOOT" + le32(version) + le32(static_cast<std::uint32_t>(page)) +
                  le32(0x10008000) + le32(0x11000000) + le32(size32(ramdisk)) +
                  field(cmdline, 2048) + le32(0x10000100) + field("vernier", 16) +
                  le32(version == 3 ? 2112 : 2128) + le32(size32(dtb)) + le64(0x11f00000);
  if (version == 4)
    h += le32(size32(table)) + le32(static_cast<std::uint32_t>(sizes.size())) + le32(108) +
         le32(size32(bootconfig));
  std::string out = padded(h, page) + padded(ramdisk, page) + padded(dtb, page);
  if (version == 4) out += padded(table, page) + padded(bootconfig, page);
  return out;
}

std::string first_ramdisk() {
  return CpioBytes{}
      .folder("dev")
      .folder("system")
      .folder("system/etc")
      .link("etc", "/system/etc")
      .device("dev/console", 5, 1)
      .entry("init",
             "\x7f"
             "ELF the stock init",
             0100750, 0, 1, 0, 2000, 1230768000)
      .file("fstab.vernier",
            "/dev/block/system /system ext4 ro wait,avb=vbmeta,first_stage_mount\n"
            "/dev/block/vendor /vendor ext4 ro wait,avb\n")
      .file("system/etc/build.prop", "ro.debuggable=0\nro.korvale=1\n")
      .done();
}

}  // namespace wexlo::test
