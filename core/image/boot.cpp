#include "image/boot.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "image/fragments.hpp"

namespace wexlo::boot {
namespace {

using enum FieldType;

// Versions 0 to 2 are prefixes of one table: an older version ends at an earlier row.
constexpr std::array kFields012{
    Field{"magic", 0, 8, Raw},
    Field{"kernel_size", 8, 4, U32},
    Field{"kernel_addr", 12, 4, U32},
    Field{"ramdisk_size", 16, 4, U32},
    Field{"ramdisk_addr", 20, 4, U32},
    Field{"second_size", 24, 4, U32},
    Field{"second_addr", 28, 4, U32},
    Field{"tags_addr", 32, 4, U32},
    Field{"page_size", 36, 4, U32},
    Field{"header_version", 40, 4, U32},
    Field{"os_version", 44, 4, U32},
    Field{"name", 48, 16, Text},
    Field{"cmdline", 64, 512, Text},
    Field{"id", 576, 32, Raw},
    Field{"extra_cmdline", 608, 1024, Text},
    Field{"recovery_dtbo_size", 1632, 4, U32},
    Field{"recovery_dtbo_offset", 1636, 8, U64},
    Field{"header_size", 1644, 4, U32},
    Field{"dtb_size", 1648, 4, U32},
    Field{"dtb_addr", 1652, 8, U64},
};
constexpr std::array kSections012{
    SectionRule{"kernel", "kernel_size"}, SectionRule{"ramdisk", "ramdisk_size"},
    SectionRule{"second", "second_size"}, SectionRule{"recovery_dtbo", "recovery_dtbo_size"},
    SectionRule{"dtb", "dtb_size"},
};
constexpr std::array kFields34{
    Field{"magic", 0, 8, Raw},         Field{"kernel_size", 8, 4, U32},
    Field{"ramdisk_size", 12, 4, U32}, Field{"os_version", 16, 4, U32},
    Field{"header_size", 20, 4, U32},  Field{"header_version", 40, 4, U32},
    Field{"cmdline", 44, 1536, Text},  Field{"signature_size", 1580, 4, U32},
};
constexpr std::array kSections34{
    SectionRule{"kernel", "kernel_size"},
    SectionRule{"ramdisk", "ramdisk_size"},
    SectionRule{"boot_signature", "signature_size"},
};
constexpr std::array kVendorFields{
    Field{"magic", 0, 8, Raw},
    Field{"header_version", 8, 4, U32},
    Field{"page_size", 12, 4, U32},
    Field{"kernel_addr", 16, 4, U32},
    Field{"ramdisk_addr", 20, 4, U32},
    Field{"vendor_ramdisk_size", 24, 4, U32},
    Field{"cmdline", 28, 2048, Text},
    Field{"tags_addr", 2076, 4, U32},
    Field{"name", 2080, 16, Text},
    Field{"header_size", 2096, 4, U32},
    Field{"dtb_size", 2100, 4, U32},
    Field{"dtb_addr", 2104, 8, U64},
    Field{"vendor_ramdisk_table_size", 2112, 4, U32},
    Field{"vendor_ramdisk_table_entry_num", 2116, 4, U32},
    Field{"vendor_ramdisk_table_entry_size", 2120, 4, U32},
    Field{"bootconfig_size", 2124, 4, U32},
};
constexpr std::array kVendorSections{
    SectionRule{"vendor_ramdisk", "vendor_ramdisk_size"},
    SectionRule{"dtb", "dtb_size"},
    SectionRule{"vendor_ramdisk_table", "vendor_ramdisk_table_size"},
    SectionRule{"bootconfig", "bootconfig_size"},
};

/// Before versions were counted, offset 40 held the size of a device-tree section.
constexpr std::array kFieldsOld = [] {
  std::array<Field, 15> fields{};
  std::copy_n(kFields012.begin(), fields.size(), fields.begin());
  fields[9] = Field{"dt_size", 40, 4, U32};
  return fields;
}();
constexpr std::array kSectionsOld{
    SectionRule{"kernel", "kernel_size"},
    SectionRule{"ramdisk", "ramdisk_size"},
    SectionRule{"second", "second_size"},
    SectionRule{"dt", "dt_size"},
};

/// One chipset's header of 2012 to 2015 had one more word before the tags' address.
constexpr std::array kFieldsShifted{
    Field{"magic", 0, 8, Raw},         Field{"kernel_size", 8, 4, U32},
    Field{"kernel_addr", 12, 4, U32},  Field{"ramdisk_size", 16, 4, U32},
    Field{"ramdisk_addr", 20, 4, U32}, Field{"second_size", 24, 4, U32},
    Field{"second_addr", 28, 4, U32},  Field{"tags_addr", 40, 4, U32},
    Field{"page_size", 44, 4, U32},    Field{"name", 48, 24, Text},
    Field{"cmdline", 72, 512, Text},   Field{"id", 584, 32, Raw},
};

constexpr std::span<const Field> f012(kFields012), f34(kFields34), fv(kVendorFields);
constexpr std::span<const SectionRule> s012(kSections012), s34(kSections34), sv(kVendorSections);
constexpr std::uint32_t kPage34 = 4096;  ///< fixed: versions 3 and 4 have no field for it

constexpr std::array kBootLayouts{
    Layout{"boot", 0, LE, 1632, 0, f012.first(15), s012.first(3)},
    Layout{"boot", 1, LE, 1648, 0, f012.first(18), s012.first(4)},
    Layout{"boot", 2, LE, 1660, 0, f012, s012},
    Layout{"boot", 3, LE, 1580, kPage34, f34.first(7), s34.first(2)},
    Layout{"boot", 4, LE, 1584, kPage34, f34, s34},
};
constexpr Layout kOldLayout{"boot", 0, LE, 1632, 0, kFieldsOld, kSectionsOld};
constexpr Layout kShiftedLayout{"boot", 0, LE, 616, 0, kFieldsShifted, s012.first(3)};
constexpr std::array kVendorLayouts{
    Layout{"vendor_boot", 3, LE, 2112, 0, fv.first(12), sv.first(2)},
    Layout{"vendor_boot", 4, LE, 2128, 0, fv, sv},
};

constexpr std::size_t kBootVersionAt = 40, kVendorVersionAt = 8, kPageSizeAt = 36,
                      kShiftedPageSizeAt = 44;
constexpr unsigned kFirstWithoutPageSize = 3;
/// No header version will ever be this high, and no device tree is this small.
constexpr std::uint32_t kLeastDtSize = 256;

bool plausible_page(View bytes, std::size_t at) {
  if (bytes.size() < at + 4) return false;
  const auto page = load<std::uint32_t, LE>(bytes.data() + at);
  return page >= 2048 && page <= 131072 && std::has_single_bit(page);
}

Result<Image> parse_with(const Blob& bytes, std::string_view magic, std::size_t version_at,
                         std::span<const Layout> layouts) {
  const View view = bytes.view();
  if (!as_text(view).starts_with(magic))
    return fail({.code = ErrorCode::BadMagic,
                 .message = "not this kind of image",
                 .offset = 0,
                 .expected = std::string(magic),
                 .found = hex(view.first(std::min(magic.size(), view.size())))});
  WEXLO_TRY(const View field, slice(view, version_at, 4, "header_version"));
  const auto version = load<std::uint32_t, std::endian::little>(field.data());
  const bool counted = version >= kFirstWithoutPageSize && version <= layouts.back().version;
  if (magic == kMagic && !counted && !plausible_page(view, kPageSizeAt) &&
      plausible_page(view, kShiftedPageSizeAt))
    return Image::parse(kShiftedLayout, bytes);
  for (const Layout& layout : layouts)
    if (layout.version == version) return Image::parse(layout, bytes);
  if (magic == kMagic && version >= kLeastDtSize && plausible_page(view, kPageSizeAt))
    return Image::parse(kOldLayout, bytes);
  return fail({.code = ErrorCode::Unsupported,
               .message = "header_version is not one Wexlo knows",
               .offset = version_at,
               .expected = fmt::format("{} to {}", layouts.front().version, layouts.back().version),
               .found = fmt::format("{}", version),
               .hint = "A newer Wexlo may know it; a damaged header is as likely."});
}

/// The bytes that the id is a digest of. Source: sizes follow each section, little-endian; sections
/// that the version does not have contribute nothing, absent ones their zero size.
Bytes id_of(const Image& image, DigestKind kind) {
  Hasher hasher(kind);
  for (const Section& section : image.sections()) {
    if (section.name == "dt" && section.bytes.empty()) continue;
    hasher.update(section.bytes.view());
    std::byte size[4];
    store<std::uint32_t, std::endian::little>(size,
                                              static_cast<std::uint32_t>(section.bytes.size()));
    hasher.update(size);
  }
  Bytes id = hasher.finish();
  id.resize(32);  // SHA-1 fills 20 of the 32 bytes
  return id;
}

}  // namespace

std::optional<DigestKind> id_recipe(const Image& image) {
  if (image.raw("id").empty()) return std::nullopt;
  for (const DigestKind kind : {DigestKind::Sha1, DigestKind::Sha256})
    if (equal(id_of(image, kind), image.raw("id"))) return kind;
  return std::nullopt;
}

bool looks_like_boot(View start) {
  return as_text(start).starts_with(kMagic);
}
bool looks_like_vendor_boot(View start) {
  return as_text(start).starts_with(kVendorMagic);
}

Result<Image> parse_boot(const Blob& bytes) {
  return parse_with(bytes, kMagic, kBootVersionAt, kBootLayouts);
}
Result<Image> parse_vendor_boot(const Blob& bytes) {
  WEXLO_TRY(Image image, parse_with(bytes, kVendorMagic, kVendorVersionAt, kVendorLayouts));
  WEXLO_CHECK(check_fragments(image));
  return image;
}

std::string cmdline(const Image& image) {
  // Right for both styles of writing: with and without a NUL at the end of the first field.
  return std::string(until_nul(image.raw("cmdline"))) +
         std::string(until_nul(image.raw("extra_cmdline")));
}

std::string bootconfig(const Image& image) {
  const Section* section = image.section("bootconfig");
  return section == nullptr ? "" : std::string(until_nul(section->bytes.view()));
}

OsVersion os_version(const Image& image) {
  const std::uint64_t packed = image.number("os_version");
  OsVersion out;
  if (packed >> 11)
    out.version = fmt::format("{}.{}.{}", packed >> 25, (packed >> 18) & 127, (packed >> 11) & 127);
  if (packed & 0x7ff)
    out.patch_level = fmt::format("{:04}-{:02}", 2000 + ((packed >> 4) & 127), packed & 15);
  return out;
}

std::string_view partition_kind(const Image& image) {
  const bool generic = image.kind() == "boot" && image.layout().version >= 4;
  const bool no_kernel = image.number("kernel_size") == 0 && image.number("ramdisk_size") != 0;
  return generic && no_kernel ? "init_boot" : image.kind();
}

std::optional<bool> id_matches(const Image& image) {
  const View id = image.raw("id");
  if (id.empty() || all_bytes(id, std::byte{0})) return std::nullopt;
  return id_recipe(image).has_value();
}

Status refresh(Image& image, std::optional<DigestKind> recipe) {
  if (image.number("recovery_dtbo_size") != 0) {
    std::uint64_t at = image.header().size();  // counted without what stands before the image
    for (const Section& section : image.sections()) {
      if (section.name == "recovery_dtbo") break;
      at += section.bytes.size() + section.padding.size();
    }
    WEXLO_CHECK(image.set_number("recovery_dtbo_offset", at));
  }
  if (recipe) WEXLO_CHECK(image.set_raw("id", id_of(image, *recipe)));
  return {};
}

Status set_cmdline(Image& image, std::string_view text) {
  const std::size_t first = image.raw("cmdline").size() - 1;
  const std::size_t room = first + image.raw("extra_cmdline").size();
  const std::size_t limit = image.raw("extra_cmdline").empty() ? first : room - 1;
  if (text.size() > limit)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the command line is too long",
                 .expected = fmt::format("at most {} characters", limit),
                 .found = fmt::format("{} characters", text.size())});
  WEXLO_CHECK(image.set_raw("cmdline", as_view(text.substr(0, first))));
  if (!image.raw("extra_cmdline").empty())
    return image.set_raw("extra_cmdline", as_view(text.substr(std::min(first, text.size()))));
  return {};
}

}  // namespace wexlo::boot
