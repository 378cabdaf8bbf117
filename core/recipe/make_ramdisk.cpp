/// A ramdisk where an image has none.

#include <array>

#include "codec/codec.hpp"
#include "recipe/work.hpp"

namespace wexlo {
namespace {

struct Reads {
  std::string_view option;  ///< of the kernel's configuration
  Compression compression;
};
/// In the order of preference.
constexpr std::array kReads{
    Reads{"CONFIG_RD_GZIP=y", Compression::Gzip}, Reads{"CONFIG_RD_LZ4=y", Compression::Lz4Legacy},
    Reads{"CONFIG_RD_XZ=y", Compression::Xz},     Reads{"CONFIG_RD_LZMA=y", Compression::Lzma},
    Reads{"CONFIG_RD_ZSTD=y", Compression::Zstd}, Reads{"CONFIG_RD_BZIP2=y", Compression::Bzip2}};

/// What a kernel unpacks; one that does not say reads what all of that time did.
Compression read_by(const std::string& config) {
  if (config.empty()) return Compression::Gzip;
  for (const Reads& one : kReads)
    if (("\n" + config).find("\n" + std::string(one.option)) != std::string::npos)
      return one.compression;
  return Compression::None;
}

Result<Bytes> empty_ramdisk(const LoadedImage& image, const Context& context) {
  WEXLO_TRY(const ReadKernel kernel, image.decoded->kernel(context));
  newc::Archive archive;
  archive.entries.push_back(newc::Entry::make(std::string(newc::kTrailer), 0, {}));
  const Compression compression = read_by(kernel ? kernel->config : std::string());
  Bytes plain = newc::write(archive);
  if (compression == Compression::None) return plain;
  return encode(compression, plain, {}, context);
}

}  // namespace

Result<bool> make_ramdisk(Work& work) {
  constexpr unsigned kLastWithOwn = 2;  // newer ones have their first ramdisk in another image
  const Section* section = work.image.section("ramdisk");
  if (section == nullptr || !section->bytes.empty() || work.image.kind() != "boot" ||
      work.image.layout().version > kLastWithOwn)
    return false;
  WEXLO_TRY(Bytes made, empty_ramdisk(work.stock, work.context));
  const Blob bytes(std::move(made));
  WEXLO_CHECK(work.image.replace("ramdisk", bytes));
  OpenRamdisk& one = work.ramdisks.emplace_back();
  one.part = boot::ramdisk_parts(work.image).front();
  WEXLO_TRY(one.ramdisk, parse_ramdisk(bytes, decode_limit(work.context)));
  one.replaced = true;
  work.intent.replaced_ramdisks[one.part.index] = bytes;
  return true;
}

Status drop_empty_ramdisk(Work& work) {
  if (!work.ramdisks.front().meant.empty()) return {};
  work.ramdisks.clear();
  work.intent.replaced_ramdisks.clear();
  return work.image.replace("ramdisk", {});
}

}  // namespace wexlo
