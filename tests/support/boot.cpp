#include "support/boot.hpp"

namespace wexlo::test {
namespace {

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
  std::string table, all = ramdisk;
  std::size_t count = 0, at = 0;
  const auto row = [&](const std::string& title, std::size_t size, unsigned type,
                       std::uint32_t board) {
    table += le32(static_cast<std::uint32_t>(size)) + le32(static_cast<std::uint32_t>(at)) +
             le32(type) + field(title, 32) + le32(board) + field("", 60);
    at += size;
    ++count;
  };
  std::vector<std::size_t> sizes = fragments;
  if (sizes.empty() && named.empty()) sizes.push_back(ramdisk.size());
  for (const std::size_t size : sizes)
    row(at == 0 ? "" : "dlkm", size, 1, 0);
  for (const Named& one : named) {
    row(one.name, one.bytes.size(), one.type, one.board);
    all += one.bytes;
  }
  std::string h = "VNDRBOOT" + le32(version) + le32(static_cast<std::uint32_t>(page)) +
                  le32(0x10008000) + le32(0x11000000) + le32(size32(all)) + field(cmdline, 2048) +
                  le32(0x10000100) + field("vernier", 16) + le32(version == 3 ? 2112 : 2128) +
                  le32(size32(dtb)) + le64(0x11f00000);
  if (version == 4)
    h += le32(size32(table)) + le32(static_cast<std::uint32_t>(count)) + le32(108) +
         le32(size32(bootconfig));
  std::string out = padded(h, page) + padded(all, page) + padded(dtb, page);
  if (version == 4) out += padded(table, page) + padded(bootconfig, page);
  return out;
}

std::string device_tree(const std::string& model, const std::string& compatible,
                        const std::string& bootargs) {
  std::string strings = std::string("model") + '\0' + "compatible" + '\0' + "bootargs" + '\0';
  const auto property = [](std::uint32_t name, const std::string& value) {
    return be32(3) + be32(size32(value) + 1) + be32(name) + padded(value + '\0', 4);
  };
  std::string body = be32(1) + be32(0) + property(0, model) + property(6, compatible);
  if (!bootargs.empty())
    body += be32(1) + padded(std::string("chosen") + '\0', 4) + property(17, bootargs) + be32(2);
  body += be32(2) + be32(9);
  const std::uint32_t at = 40 + 16;
  std::string out = be32(0xd00dfeed) + be32(at + size32(body) + size32(strings)) + be32(at) +
                    be32(at + size32(body)) + be32(40) + be32(17) + be32(16) + be32(0) +
                    be32(size32(strings)) + be32(size32(body));
  return out + field("", 16) + body + strings;
}

std::string TableBytes::done() const {
  std::vector<Row> all = rows;
  if (all.empty())
    for (std::size_t i = 0; i < blobs.size(); ++i)
      all.push_back({i, static_cast<std::uint32_t>(i + 1), 0, 0});
  std::vector<std::uint32_t> places;
  std::string body;
  const auto first = static_cast<std::uint32_t>(32 + 32 * all.size());
  for (const std::string& blob : blobs) {
    places.push_back(first + size32(body));
    body += padded(blob, 8);
  }
  std::string table;
  for (const Row& row : all)
    table += be32(size32(blobs[row.blob])) + be32(places[row.blob]) + be32(row.id) + be32(row.rev) +
             be32(row.flags) + field("", 12);
  return be32(0xd7b7ab1e) + be32(first + size32(body)) + be32(32) + be32(32) +
         be32(static_cast<std::uint32_t>(all.size())) + be32(32) + be32(2048) + be32(version) +
         table + body;
}

std::string arm64_kernel(const std::string& release, const std::string& config) {
  std::string out = le32(0x91005a4d) + le32(0x14000000) + le64(0) + le64(1u << 21) + le64(10) +
                    field("", 24) + "ARMd" + le32(0);
  out += noise(3000, 9) + "%s version %s (" + '\0' + "Linux version " + release +
         " (tarn@korvale) (gcc 12) #1 SMP\n" + '\0';
  if (!config.empty()) out += "IKCFG_ST" + gzip(config) + "IKCFG_ED";
  return padded(out + noise(2000, 10), 8);
}

std::string chipset_header(const std::string& name, const std::string& part) {
  std::string out = le32(0x58881688) + le32(size32(part)) + field(name, 32);
  return out + std::string(512 - out.size(), '\xff');
}

std::string sealed(const std::string& image) {
  const std::string head =
      std::string("DHTB\x01\0\0\0", 8) + sha256(image) + field("", 8) + le32(size32(image));
  return field(head, 512) + image;
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

std::string shifted_boot(const std::string& kernel, const std::string& ramdisk) {
  const std::string header = "ANDROID!" + le32(size32(kernel)) + le32(0x10008000) +
                             le32(size32(ramdisk)) + le32(0x11000000) + le32(0) + le32(0x10f00000) +
                             le32(0) + std::string("\0\0\0\2", 4) + le32(0x10000100) + le32(2048) +
                             field("plumbline", 24) + field("console=ttyKV0", 512) +
                             field("id", 32);
  return padded(header, 2048) + padded(kernel, 2048) + padded(ramdisk, 2048);
}

std::string ElfBytes::done() const {
  const std::string parts[] = {kernel, ramdisk, more};
  std::string table, body;
  std::uint32_t at = 4096;
  for (const std::string& part : parts) {
    table += le32(1) + le32(at) + le32(at + 0x10000000) + le32(at + 0x10000000) +
             le32(size32(part)) + le32(size32(part)) + le32(0) + le32(0);
    body += part + std::string(gap, '\0');
    at += size32(part) + static_cast<std::uint32_t>(gap);
  }
  std::string header(
      "\x7f"
      "ELF\1\1\1",
      7);
  header = field(header, 16) + le16(2) + le16(40) + le32(1) + le32(0x10001000) + le32(52) +
           le32(0) + le32(0) + le16(52) + le16(32) + le16(3) + le16(0) + le16(0) + le16(0);
  return field(header + table, 4096) + body;
}

std::string zimage_kernel() {
  std::string out = noise(6000, 3);
  out.replace(0x24, 4, le32(0x016f2818));
  return out;
}

}  // namespace wexlo::test
