#include "firmware/formats.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>

#include "archive/zip.hpp"
#include "codec/unpacked.hpp"
#include "firmware/build_text.hpp"
#include "firmware/download_container.hpp"
#include "firmware/file_names.hpp"
#include "firmware/gpt.hpp"
#include "firmware/named_kinds.hpp"
#include "firmware/package.hpp"
#include "firmware/payload.hpp"
#include "firmware/record_container.hpp"
#include "firmware/sparse.hpp"
#include "firmware/super.hpp"
#include "firmware/twins.hpp"
#include "image/boot.hpp"
#include "image/device_tree.hpp"
#include "image/elf_boot.hpp"
#include "image/part_header.hpp"
#include "net/http.hpp"
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

/// The boot sector of FAT12, FAT16 and FAT32: its jump and its table of sizes. The words "FAT16"
/// and the like in it are for people, and may be missing.
bool looks_like_fat(View start) {
  constexpr std::size_t kSector = 512;
  if (start.size() < kSector) return false;
  const auto byte = [&](std::size_t at) { return std::to_integer<unsigned>(start[at]); };
  const unsigned bytes = byte(11) | byte(12) << 8, cluster = byte(13);
  const bool jump = (byte(0) == 0xEB && byte(2) == 0x90) || byte(0) == 0xE9;
  return jump && byte(510) == 0x55 && byte(511) == 0xAA && std::has_single_bit(bytes) &&
         bytes >= kSector && bytes <= 4096 && std::has_single_bit(cluster) &&
         (byte(14) | byte(15)) != 0 && (byte(16) == 1 || byte(16) == 2) && byte(21) >= 0xF0;
}

/// The format has no magic: its properties are in range, its dictionary is of a size that packers
/// choose (2^n, 2^n + 2^(n-1)), the size field is unknown or one that a file can have.
bool may_be_lzma(View start) {
  constexpr std::size_t kHeader = 13;
  constexpr std::uint8_t kProperties = 9 * 5 * 5;
  if (start.size() < kHeader || std::to_integer<std::uint8_t>(start[0]) >= kProperties)
    return false;
  const auto dictionary = load<std::uint32_t, std::endian::little>(start.data() + 1);
  const bool usual = dictionary == ~std::uint32_t{0} || std::popcount(dictionary) == 1 ||
                     (std::popcount(dictionary) == 2 && (dictionary & dictionary << 1) != 0);
  const auto size = load<std::uint64_t, std::endian::little>(start.data() + 5);
  return usual && (size == ~std::uint64_t{0} || size < (std::uint64_t{1} << 40));
}

template <Compression Kind>
bool packed_as(View start) {
  return detect_compression(start) == Kind && (Kind != Compression::Lzma || may_be_lzma(start));
}

template <Compression Kind>
Result<SourcePtr> unpack_as(const SourcePtr& source, const Opening& opening) {
  return open_unpacked({.source = source, .kind = Kind}, opening.context);
}

template <Compression Kind>
constexpr Format packed_row(std::string_view kind) {
  return {kind, packed_as<Kind>, nullptr, unpack_as<Kind>, nullptr};
}

constexpr std::array kFormats{
    Format{"zip", looks_like_zip, open_zip},
    Format{"record-container", looks_like_records, open_records},
    Format{"download-container", looks_like_download_container, open_download_container},
    Format{"payload", looks_like_payload, open_payload},
    Format{"boot", boot::looks_like_boot, nullptr, nullptr, boot::parse_boot},
    Format{"boot", boot::looks_like_elf_boot, nullptr, nullptr, boot::parse_elf_boot},
    Format{"vendor_boot", boot::looks_like_vendor_boot, nullptr, nullptr, boot::parse_vendor_boot},
    Format{"vbmeta", verified::looks_like_vbmeta, nullptr, nullptr, verified::parse_vbmeta},
    Format{"dt-table", dt::looks_like_table, nullptr, nullptr, dt::parse_table},
    Format{"dtb", dt::looks_like_fdt, nullptr, nullptr, dt::parse_chain},
    Format{"sparse", looks_like_sparse, nullptr, open_sparse},
    Format{"super-empty", looks_like_empty_super, open_empty_super},
    packed_row<Compression::Gzip>("gzip"),
    packed_row<Compression::Lz4Frame>("lz4-frame"),
    packed_row<Compression::Lz4Legacy>("lz4-legacy"),
    packed_row<Compression::Xz>("xz"),
    packed_row<Compression::Bzip2>("bzip2"),
    packed_row<Compression::Zstd>("zstd"),
    packed_row<Compression::Lzo>("lzo"),
    packed_row<Compression::Lzma>("lzma"),
    Format{"erofs", magic_at<1024, 0xE2, 0xE1, 0xF5, 0xE0>},
    Format{"f2fs", magic_at<1024, 0x10, 0x20, 0xF5, 0xF2>},
    Format{"ext4", magic_at<1080, 0x53, 0xEF>},
    Format{"squashfs", magic_at<0, 'h', 's', 'q', 's'>},
    // Their marks stand further behind: what begins with one of the above is that.
    Format{"tar", looks_like_tar, open_tar_package},
    Format{"gpt", looks_like_gpt, open_gpt},
    Format{"super", looks_like_super, open_super},
    Format{"fat", looks_like_fat},
};

Error unknown_format(const std::string& name, View start) {
  if (start.empty())
    return {.code = ErrorCode::BadMagic,
            .message = "the file is empty",
            .file = name,
            .expected = "a firmware package or an image",
            .found = "0 bytes",
            .hint = "The download or the copy failed: fetch it again."};
  return {.code = ErrorCode::BadMagic,
          .message = "of no kind that Wexlo knows",
          .file = name,
          .offset = 0,
          .expected =
              "a firmware package (zip, payload, tar, sparse, super, disk dump; also "
              "compressed), or a boot, vendor_boot, dtbo or vbmeta image",
          .found = "bytes " + hex(start.first(std::min<std::size_t>(8, start.size()))),
          .hint = "If it is packed in another way, unpack it first."};
}

/// A sparse image is an image all the same, carried whole; what is compressed is none.
bool is_packed(const Format& format) {
  return format.unwrap != nullptr && format.unwrap != open_sparse;
}

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

}  // namespace

const Format* find_format(View start) {
  for (const Format& format : kFormats)
    if (format.probe(start)) return &format;
  return nullptr;
}

std::optional<Identified> identify_bytes(View start) {
  if (const Format* format = find_format(start.first(std::min(kProbeSize, start.size()))))
    return Identified{format, {}};
  const bool headed = part_header::looks_like(start);
  const auto found = prefix::find(start, headed ? begins_part : begins_image);
  if (!found) return std::nullopt;
  return Identified{find_format(start.subspan(found->size)), *found};
}

Result<Identified> identify(const Source& source) {
  WEXLO_TRY(Bytes start, read_some(source, 0, kProbeSize));
  if (find_format(start) == nullptr) {
    WEXLO_TRY(start, read_some(source, 0, prefix::kSearch));
    WEXLO_TRY(const NamedKind* const named, named_kind(source, start));
    if (named != nullptr) return fail(named_error(*named, source.name()));
  }
  const auto found = identify_bytes(start);
  if (!found) return fail(unknown_format(source.name(), start));
  return *found;
}

Result<Unwrapped> unwrap(SourcePtr source, std::optional<Compression> packed,
                         const Opening& opening) {
  Unwrapped out{.source = std::move(source)};
  for (unsigned depth = opening.depth;; ++depth) {
    WEXLO_CHECK(check_nesting(depth, out.source->name()));
    WEXLO_TRY(const Bytes start, read_some(*out.source, 0, kProbeSize));
    out.format = find_format(start);
    // Three bytes are no proof that what was packed once is packed again.
    if (out.format != nullptr && out.format->kind == compression_name(Compression::Lzma) &&
        !out.layers.empty() && packed != Compression::Lzma)
      out.format = nullptr;
    if (packed == Compression::Lzma && !may_be_lzma(start)) packed.reset();
    if (out.format == nullptr && packed) {
      const Compression kind = *std::exchange(packed, std::nullopt);
      WEXLO_TRY(out.source, open_unpacked({.source = out.source, .kind = kind}, opening.context));
      out.layers.push_back({std::string(compression_name(kind)), ""});
      continue;
    }
    if (out.format == nullptr || out.format->unwrap == nullptr) return out;
    // What the name promised is taken off now: it is not taken off twice.
    if (is_packed(*out.format)) packed.reset();
    WEXLO_TRY(out.source, out.format->unwrap(out.source, opening));
    out.layers.push_back({std::string(out.format->kind), ""});
  }
}

namespace {

/// One image, perhaps packed.
FirmwarePtr single_image(const Unwrapped& inner, const SourcePtr& outer) {
  auto out = std::make_unique<Firmware>();
  out->single = true;
  const FileName file = read_file_name(outer->name());
  std::string name = file.partition;
  const std::string kind = inner.format == nullptr ? "" : std::string(inner.format->kind);
  // What is no name of a partition gives way to what the image is.
  static constexpr std::string_view kNamed[] = {"boot", "vendor_boot", "vbmeta"};
  const bool says_kind = name.contains(kind.substr(0, 4));
  if (!says_kind && std::ranges::find(kNamed, kind) != std::end(kNamed)) name = kind;
  out->partitions.push_back({.name = name,
                             .size = inner.source->size(),
                             .stored_size = outer->size(),
                             .held = kind,
                             .content = content_of(inner.source)});
  return out;
}

/// What can be told only once all files of what was given are known.
Status complete(Firmware& firmware, const Context& context) {
  WEXLO_CHECK(settle_twins(firmware, context));
  facts_from_images(firmware);
  return {};
}

}  // namespace

void tell_not_packed(Firmware& firmware, const FileName& file, const Unwrapped& inner,
                     const std::string& path) {
  if (!file.says_packed || inner.format != nullptr || !inner.layers.empty()) return;
  firmware.note(FindingCode::NotPacked,
                fmt::format("{} is named as a packed file, and its bytes do not begin so: they are "
                            "taken as they are.",
                            base_name(path)));
}

Status look_further(Unwrapped& inner) {
  if (inner.format != nullptr) return {};
  WEXLO_TRY(const Bytes start, read_some(*inner.source, 0, prefix::kSearch));
  WEXLO_TRY(const auto zip, zip_start(*inner.source));
  if (zip) {
    WEXLO_TRY(inner.source,
              open_window(inner.source, *zip, inner.source->size() - *zip, inner.source->name()));
    inner.format = std::ranges::find(kFormats, "zip", &Format::kind);
    return {};
  }
  WEXLO_TRY(const NamedKind* const named, named_kind(*inner.source, start));
  // What is packed is meant for a partition, even if it is a picture.
  if (named != nullptr && (named->sort != NamedSort::NotFirmware || inner.layers.empty()))
    return fail(named_error(*named, inner.source->name()));
  if (const auto found = identify_bytes(start)) inner.format = found->format;
  return {};
}

Status check_named(const Unwrapped& inner) {
  if (inner.format != nullptr) return {};
  WEXLO_TRY(const Bytes start, read_some(*inner.source, 0, 512));
  const NamedKind* named = named_by_start(start);
  // A picture may well be the image of a partition: what the phone shows while it starts.
  if (named == nullptr || named->sort == NamedSort::NotFirmware) return {};
  return fail(named_error(*named, inner.source->name()));
}

Result<FirmwarePtr> open_source(const SourcePtr& source, const Opening& opening) {
  const FileName file = read_file_name(source->name());
  WEXLO_TRY(Unwrapped inner, unwrap(source, file.packed, opening));
  WEXLO_CHECK(look_further(inner));
  if (inner.format == nullptr && inner.layers.empty()) {
    WEXLO_TRY(const Bytes start, read_some(*source, 0, 8));
    return fail(unknown_format(source->name(), start));
  }
  const auto shells = static_cast<unsigned>(inner.layers.size());
  FirmwarePtr out;
  if (inner.format != nullptr && inner.format->open != nullptr) {
    Opening deeper = opening;
    deeper.depth += shells;
    WEXLO_TRY(out, inner.format->open(inner.source, deeper));
  } else {
    out = single_image(inner, source);
    out->layers.push_back(
        {inner.format == nullptr ? "unknown" : std::string(inner.format->kind), ""});
  }
  if (shells > 0 || out->kind.empty())
    out->kind = shells > 0 ? inner.layers.front().kind : out->layers.front().kind;
  out->layers.insert(out->layers.begin(), inner.layers.begin(), inner.layers.end());
  tell_not_packed(*out, file, inner, source->name());
  if (opening.depth == 0) {
    WEXLO_CHECK(complete(*out, opening.context));
  }
  return out;
}

Result<SourcePtr> open_input(const std::string& where, const Context& context) {
  return is_url(where) ? open_url(where, context) : open_file(where);
}

Result<FirmwarePtr> open_firmware(const std::string& where, const Opening& opening) {
  std::error_code ignored;
  if (!is_url(where) && std::filesystem::is_directory(where, ignored)) {
    WEXLO_TRY(FirmwarePtr out, open_folder(where, opening));
    WEXLO_CHECK(complete(*out, opening.context));
    return out;
  }
  WEXLO_TRY(const SourcePtr source, open_input(where, opening.context));
  return open_source(source, opening);
}

Result<FirmwarePtr> open_firmware(const std::vector<std::string>& where, const Opening& opening) {
  if (where.size() == 1) return open_firmware(where.front(), opening);
  std::vector<FirmwarePtr> parts;
  for (const std::string& one : where) {
    WEXLO_TRY(FirmwarePtr part, open_firmware(one, opening));
    for (PartitionFacts& partition : part->partitions) {
      const std::string file(base_name(one));
      partition.from = partition.from.empty() ? file : file + "!" + partition.from;
    }
    parts.push_back(std::move(part));
  }
  WEXLO_TRY(FirmwarePtr out,
            merge(std::move(parts), {"set", fmt::format("{} packages", where.size())}));
  WEXLO_CHECK(complete(*out, opening.context));
  return out;
}

Result<LoadedImage> load_image(const Source& source) {
  WEXLO_TRY(const Identified found, identify(source));
  const Format* format = found.format;
  if (format->open != nullptr)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a firmware package, where a single image is wanted",
                 .file = source.name(),
                 .found = std::string(format->kind),
                 .hint = "Take the image out first: wexlo extract."});
  if (is_packed(*format))
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a packed image, where a plain one is wanted",
                 .file = source.name(),
                 .found = std::string(format->kind),
                 .hint = "Unpack it first: wexlo extract."});
  WEXLO_TRY(const Blob bytes, read_all(source, kMaxImage));
  return load_image(bytes, source.name());
}

Result<LoadedImage> load_image(const Blob& bytes, const std::string& name) {
  LoadedImage loaded{.bytes = bytes};
  const auto found = identify_bytes(bytes.view());
  if (!found || found->format->open != nullptr || is_packed(*found->format))
    return fail(unknown_format(name, bytes.view()));
  loaded.format = found->format;
  if (loaded.format->parse_image == nullptr) return loaded;
  auto image = loaded.format->parse_image(bytes.rest(found->prefix.size));
  if (!image) return fail(in_file(at_base(std::move(image).error(), found->prefix.size), name));
  image->set_prefix(bytes.part(0, found->prefix.size));
  loaded.image = std::move(*image);
  loaded.decoded = std::make_shared<DecodedImage>(*loaded.image);
  return loaded;
}

}  // namespace wexlo
