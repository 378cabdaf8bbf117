#include "firmware/formats.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "archive/zip.hpp"
#include "firmware/ota_zip.hpp"
#include "firmware/payload.hpp"
#include "image/boot.hpp"
#include "image/device_tree.hpp"
#include "image/part_header.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

/// A magic at a fixed place: what is enough to name a kind that is carried whole.
template <std::size_t Offset, std::uint8_t... Magic>
bool magic_at(View start) {
  constexpr std::array<std::uint8_t, sizeof...(Magic)> magic{Magic...};
  return start.size() >= Offset + magic.size() &&
         std::memcmp(start.data() + Offset, magic.data(), magic.size()) == 0;
}

constexpr std::array kFormats{
    Format{"ota-zip", looks_like_zip, open_ota_zip, nullptr},
    Format{"payload", looks_like_payload, open_payload, nullptr},
    Format{"boot", boot::looks_like_boot, nullptr, boot::parse_boot},
    Format{"vendor_boot", boot::looks_like_vendor_boot, nullptr, boot::parse_vendor_boot},
    Format{"vbmeta", verified::looks_like_vbmeta, nullptr, verified::parse_vbmeta},
    Format{"dt-table", dt::looks_like_table, nullptr, dt::parse_table},
    Format{"dtb", dt::looks_like_fdt, nullptr, dt::parse_chain},
    Format{"sparse", magic_at<0, 0x3A, 0xFF, 0x26, 0xED>},
    Format{"erofs", magic_at<1024, 0xE2, 0xE1, 0xF5, 0xE0>},
    Format{"f2fs", magic_at<1024, 0x10, 0x20, 0xF5, 0xF2>},
    Format{"ext4", magic_at<1080, 0x53, 0xEF>},
    Format{"squashfs", magic_at<0, 'h', 's', 'q', 's'>},
};

Error unknown_format(const std::string& name, View start) {
  return {
      .code = ErrorCode::BadMagic,
      .message = "of no kind that Wexlo knows",
      .file = name,
      .offset = 0,
      .expected = "an over-the-air zip, a payload, or a boot, vendor_boot, dtbo or vbmeta image",
      .found = start.empty() ? "an empty file"
                             : "bytes " + hex(start.first(std::min<std::size_t>(8, start.size()))),
      .hint = "If it is compressed or packed, unpack it first."};
}

}  // namespace

const Format* find_format(View start) {
  for (const Format& format : kFormats)
    if (format.probe(start)) return &format;
  return nullptr;
}

namespace {

bool begins_image(View at) {
  const Format* format = find_format(at);
  if (format == nullptr || format->parse_image == nullptr) return false;
  // A device tree somewhere in a file is no sign of an image: only behind a chipset's own header.
  return format->kind == "boot" || format->kind == "vendor_boot";
}

bool begins_part(View at) {
  const Format* format = find_format(at);
  return format != nullptr && format->parse_image != nullptr;
}

/// @param start  up to prefix::kSearch bytes
std::optional<Identified> identify_bytes(View start) {
  if (const Format* format = find_format(start.first(std::min(kProbeSize, start.size()))))
    return Identified{format, {}};
  const bool headed = part_header::looks_like(start);
  const auto found = prefix::find(start, headed ? begins_part : begins_image);
  if (!found) return std::nullopt;
  return Identified{find_format(start.subspan(found->size)), *found};
}

}  // namespace

Result<Identified> identify(const Source& source) {
  WEXLO_TRY(Bytes start, read_some(source, 0, kProbeSize));
  if (find_format(start) == nullptr) {
    WEXLO_TRY(start, read_some(source, 0, prefix::kSearch));
  }
  const auto found = identify_bytes(start);
  if (!found) return fail(unknown_format(source.name(), start));
  return *found;
}

Result<std::unique_ptr<Firmware>> open_firmware(const std::filesystem::path& path) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  WEXLO_TRY(const Identified found, identify(*source));
  const Format* format = found.format;
  if (format->open_firmware == nullptr)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "an image, where a firmware package is wanted",
                 .file = path.string(),
                 .found = std::string(format->kind),
                 .hint = "Give the over-the-air zip, or use patch for a single image."});
  return format->open_firmware(source);
}

Result<LoadedImage> load_image(const Source& source) {
  WEXLO_TRY(const Identified found, identify(source));
  const Format* format = found.format;
  if (format->open_firmware != nullptr)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a firmware package, where a single image is wanted",
                 .file = source.name(),
                 .found = std::string(format->kind),
                 .hint = "Take the image out first: wexlo extract."});
  WEXLO_TRY(const Blob bytes, read_all(source, kMaxImage));
  return load_image(bytes, source.name());
}

Result<LoadedImage> load_image(const Blob& bytes, const std::string& name) {
  LoadedImage loaded{.bytes = bytes};
  const auto found = identify_bytes(bytes.view());
  if (!found || found->format->open_firmware != nullptr)
    return fail(unknown_format(name, bytes.view()));
  loaded.format = found->format;
  if (loaded.format->parse_image == nullptr) return loaded;
  auto image = loaded.format->parse_image(bytes.rest(found->prefix.size));
  if (!image) return fail(in_file(at_base(std::move(image).error(), found->prefix.size), name));
  image->set_prefix(bytes.part(0, found->prefix.size));
  loaded.image = std::move(*image);
  return loaded;
}

}  // namespace wexlo
