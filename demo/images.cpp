#include "demo/images.hpp"

#include <algorithm>

#include "archive/newc.hpp"
#include "base/digest.hpp"
#include "demo/content.hpp"

namespace wexlo::demo {
namespace {

constexpr std::uint32_t kOsVersion = 16u << 25 | (2026 - 2000) << 4 | 9;  ///< 16.0.0, 2026-09
constexpr std::size_t kPage = 4096;

void section(Bytes& out, View bytes) {
  append(out, bytes);
  out.resize(align_up(out.size(), kPage));
}

}  // namespace

Bytes ramdisk(const std::vector<File>& files, Compression compression) {
  newc::Archive archive;
  std::uint32_t ino = 300000;
  const auto add = [&](newc::Entry entry) {
    entry.set(newc::Field::Ino, ino++);
    archive.entries.push_back(std::move(entry));
  };
  for (const File& file : files)
    add(newc::Entry::make(file.name, file.mode, Blob(file.data)));
  add(newc::Entry::make(std::string(newc::kTrailer), 0644, {}));
  Bytes bytes = newc::write(archive);
  bytes.resize(align_up(bytes.size(), 256));
  // A middling level, as phone builds use: also, the demo wants to be made in seconds.
  return encode(compression, bytes, {.level = 6}).value();
}

Bytes boot_v4(View kernel, View ramdisk, const std::string& cmdline) {
  Bytes out;
  LeWriter header(out);
  header.text("ANDROID!", 8);
  header.put(static_cast<std::uint32_t>(kernel.size()));
  header.put(static_cast<std::uint32_t>(ramdisk.size()));
  header.put(kOsVersion);
  header.put(std::uint32_t{1584});
  header.zeros(16);
  header.put(std::uint32_t{4});
  header.text(cmdline, 1536);
  header.put(std::uint32_t{0});  // no boot signature
  header.align(kPage);
  section(out, kernel);
  section(out, ramdisk);
  return out;
}

Bytes vendor_boot_v4(View ramdisk, View dtb, const std::string& cmdline,
                     const std::string& bootconfig) {
  constexpr std::uint32_t kEntrySize = 108, kPlatform = 1;
  Bytes table;
  LeWriter entry(table);
  entry.put(static_cast<std::uint32_t>(ramdisk.size()));
  entry.put(std::uint32_t{0});
  entry.put(kPlatform);
  entry.text("", 32);
  entry.zeros(64);

  Bytes out;
  LeWriter header(out);
  header.text("VNDRBOOT", 8);
  header.put(std::uint32_t{4});
  header.put(static_cast<std::uint32_t>(kPage));
  header.put(std::uint32_t{0x10008000});
  header.put(std::uint32_t{0x11000000});
  header.put(static_cast<std::uint32_t>(ramdisk.size()));
  header.text(cmdline, 2048);
  header.put(std::uint32_t{0x10000100});
  header.text("gnomon", 16);
  header.put(std::uint32_t{2128});
  header.put(static_cast<std::uint32_t>(dtb.size()));
  header.put(std::uint64_t{0x11f00000});
  header.put(kEntrySize);
  header.put(std::uint32_t{1});
  header.put(kEntrySize);
  header.put(static_cast<std::uint32_t>(bootconfig.size()));
  header.align(kPage);
  section(out, ramdisk);
  section(out, dtb);
  section(out, table);
  section(out, as_view(bootconfig));
  return out;
}

Bytes boot_v1_v2(const OldBoot& boot) {
  constexpr std::size_t kOldPage = 2048;
  constexpr std::uint32_t kBase = 0x10000000;
  const auto size = [](const Bytes& part) { return static_cast<std::uint32_t>(part.size()); };
  Hasher id(DigestKind::Sha1);
  std::vector<const Bytes*> parts{&boot.kernel, &boot.ramdisk};
  static const Bytes none;
  parts.push_back(&none);  // no second stage
  parts.push_back(&boot.recovery_dtbo);
  if (boot.version == 2) parts.push_back(&boot.dtb);
  for (const Bytes* part : parts) {
    Bytes length;
    LeWriter(length).put(size(*part));
    id.update(*part);
    id.update(length);
  }
  const std::uint64_t dtbo_at =
      kOldPage + align_up(boot.kernel.size(), kOldPage) + align_up(boot.ramdisk.size(), kOldPage);
  Bytes out;
  LeWriter header(out);
  header.text("ANDROID!", 8);
  for (const std::uint32_t value :
       {size(boot.kernel), kBase + 0x8000, size(boot.ramdisk), kBase + 0x1000000, 0u,
        kBase + 0xf00000, kBase + 0x100, static_cast<std::uint32_t>(kOldPage), boot.version,
        boot.os_version})
    header.put(value);
  header.text(boot.name, 16);
  header.text(boot.cmdline, 512);
  header.put(View(id.finish()));
  header.zeros(12);
  header.zeros(1024);
  header.put(size(boot.recovery_dtbo));
  header.put(boot.recovery_dtbo.empty() ? std::uint64_t{0} : dtbo_at);
  header.put(std::uint32_t{boot.version == 2 ? 1660u : 1648u});
  if (boot.version == 2) {
    header.put(size(boot.dtb));
    header.put(std::uint64_t{kBase + 0x1f00000});
  }
  header.align(kOldPage);
  for (const Bytes* part : parts) {
    append(out, View(*part));
    out.resize(align_up(out.size(), kOldPage));
  }
  return out;
}

Bytes dt_table(const std::vector<Bytes>& trees) {
  constexpr std::uint32_t kHeader = 32, kEntry = 32;
  const auto count = static_cast<std::uint32_t>(trees.size());
  std::uint32_t total = kHeader + kEntry * count;
  for (const Bytes& tree : trees)
    total += static_cast<std::uint32_t>(tree.size());
  Bytes out;
  BeWriter writer(out);
  for (const std::uint32_t value : {0xD7B7AB1Eu, total, kHeader, kEntry, count, kHeader, 4096u, 0u})
    writer.put(value);
  std::uint32_t at = kHeader + kEntry * count, id = 1;
  for (const Bytes& tree : trees) {
    writer.put(static_cast<std::uint32_t>(tree.size()));
    writer.put(at);
    writer.put(id++);
    writer.zeros(kEntry - 12);
    at += static_cast<std::uint32_t>(tree.size());
  }
  for (const Bytes& tree : trees)
    writer.put(View(tree));
  return out;
}

Bytes system_image(std::size_t size, const std::string& build_properties, std::string_view label) {
  Bytes out(size);
  const std::size_t block = 4096;
  store<std::uint32_t, std::endian::little>(out.data() + 1028,
                                            static_cast<std::uint32_t>(size / block));
  store<std::uint32_t, std::endian::little>(out.data() + 1048, 2);  // blocks of 4096
  store<std::uint16_t, std::endian::little>(out.data() + 1080, 0xEF53);
  std::ranges::copy(as_view(label), out.begin() + 1144);
  std::ranges::copy(as_view(build_properties), out.begin() + 8192);
  // A third programs, a little that no compressor likes, the rest free.
  const Bytes programs = code_like(77, size / 3);
  std::ranges::copy(programs, out.begin() + 65536);
  const Bytes media = random_bytes(78, size / 24);
  std::ranges::copy(media, out.begin() + static_cast<std::ptrdiff_t>(size / 2));
  return out;
}

}  // namespace wexlo::demo
