#include "image/kernel.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cctype>

#include "image/part_header.hpp"

namespace wexlo::kernel {
namespace {

constexpr std::uint32_t kArm64Magic = 0x644d5241, kZImageMagic = 0x016f2818,
                        kUImageMagic = 0x27051956;
constexpr std::size_t kArm64MagicAt = 56, kZImageMagicAt = 0x24;
/// A kernel that unpacks itself holds its payload somewhere: so many hits of a magic are tried, and
/// so much is decoded for it.
constexpr int kMostTries = 24;
constexpr std::uint64_t kMostInside = 128u << 20;

bool word_at(View bytes, std::size_t at, std::uint32_t value) {
  return bytes.size() >= at + 4 && load<std::uint32_t, LE>(bytes.data() + at) == value;
}
bool text_at(View bytes, std::size_t at, std::string_view value) {
  return bytes.size() >= at + value.size() && as_text(bytes.subspan(at)).starts_with(value);
}

std::string find_banner(View kernel) {
  constexpr std::string_view kStart = "Linux version ";
  const std::string_view text = as_text(kernel);
  for (std::size_t at = text.find(kStart); at != text.npos; at = text.find(kStart, at + 1)) {
    const std::string_view rest = text.substr(at, 1024);
    // The format string that the line is made with is not the line.
    if (rest.size() <= kStart.size() ||
        !std::isdigit(static_cast<unsigned char>(rest[kStart.size()])))
      continue;
    return std::string(
        rest.substr(0, std::min(rest.find_first_of(std::string_view("\n\0", 2)), rest.size())));
  }
  return {};
}

std::string find_config(View kernel) {
  constexpr std::string_view kStart = "IKCFG_ST";
  const std::string_view text = as_text(kernel);
  int tries = 0;
  for (std::size_t at = text.find(kStart); at != text.npos && ++tries < kMostTries;
       at = text.find(kStart, at + 1)) {
    const View packed = kernel.subspan(at + kStart.size());
    if (detect_compression(packed) != Compression::Gzip) continue;
    const auto decoded = decode(Compression::Gzip, packed, {.bytes = 8u << 20});
    if (decoded && text_at(packed, decoded->consumed, "IKCFG_ED"))
      return std::string(as_text(decoded->bytes));
  }
  return {};
}

/// Form and architecture by the magics of the first bytes.
void name_form(View bytes, Kernel& out) {
  if (word_at(bytes, kArm64MagicAt, kArm64Magic)) {
    out.form = "arm64 Image";
    out.architecture = "arm64";
    // Bits 1 and 2 of the flags: 0 says nothing, then 4, 16 and 64 KiB.
    constexpr std::size_t kFlagsAt = 24;
    constexpr std::array<std::uint32_t, 4> kPages{0, 4096, 16384, 65536};
    out.page_size = kPages[load<std::uint64_t, LE>(bytes.data() + kFlagsAt) >> 1 & 3];
  } else if (word_at(bytes, kZImageMagicAt, kZImageMagic)) {
    out.form = "ARM zImage";
    out.architecture = "arm";
  } else if (text_at(bytes, 0x202, "HdrS")) {
    out.form = "x86 bzImage";
    // xloadflags, since protocol 2.12: bit 0 says that there is a 64-bit entry.
    const bool flags =
        bytes.size() > 0x237 && load<std::uint16_t, LE>(bytes.data() + 0x206) >= 0x020c;
    const bool wide = flags && (load<std::uint16_t, LE>(bytes.data() + 0x236) & 1) != 0;
    out.architecture = wide ? "x86_64" : "x86";
  } else if (text_at(bytes, 0, "MZ") && text_at(bytes, 4, "zimg")) {
    out.form = "EFI zboot";
  } else if (text_at(bytes, 48, "RISCV") || text_at(bytes, 56, "RSC\x05")) {
    out.form = "RISC-V Image";
    out.architecture = "riscv64";
  } else {
    out.form = "unknown";
  }
}

}  // namespace

std::optional<std::size_t> find_trees(const Blob& section, std::size_t from) {
  const std::string_view text = as_text(section.view());
  constexpr std::string_view kMagic = "\xd0\x0d\xfe\xed";
  constexpr std::size_t kSlack = 4096;
  std::size_t end = from;
  // A chain that does not reach the end is passed over as a whole.
  for (std::size_t at = text.find(kMagic, from); at != text.npos;
       at = text.find(kMagic, std::max(at + 1, end))) {
    end = at;
    while (const auto size = dt::fdt_size(section.view().subspan(end))) {
      end += *size;
      std::size_t next = end;
      while (next < section.size() && next - end < kSlack && text[next] == '\0')
        ++next;
      if (!text.substr(next).starts_with(kMagic)) break;
      end = next;
    }
    if (end == at) continue;
    const View rest = section.view().subspan(end);
    if (rest.size() <= kSlack || all_bytes(rest, std::byte{0})) return at;
  }
  return std::nullopt;
}

std::optional<Payload> find_payload(View bytes, DecodeLimit limit) {
  limit.bytes = std::min(limit.bytes, kMostInside);
  constexpr std::array kMagics{
      std::string_view("\x1f\x8b\x08", 3),     std::string_view("\x02\x21\x4c\x18", 4),
      std::string_view("\xfd\x37zXZ\0", 6),    std::string_view("\x5d\0\0", 3),
      std::string_view("\x28\xb5\x2f\xfd", 4), std::string_view("BZh", 3),
      std::string_view("\x04\x22\x4d\x18", 4), std::string_view("\x89LZO\0\r\n\x1a\n", 9)};
  const std::string_view text = as_text(bytes);
  int tries = 0;
  for (const std::string_view magic : kMagics) {
    for (std::size_t at = text.find(magic); at != text.npos; at = text.find(magic, at + 1)) {
      if (++tries > kMostTries) return std::nullopt;
      const auto kind = detect_compression(bytes.subspan(at));
      auto decoded = kind ? decode(*kind, bytes.subspan(at), limit)
                          : Result<Decoded>(fail({.code = ErrorCode::BadMagic}));
      if (decoded && !find_banner(decoded->bytes).empty())
        return Payload{at, *kind, std::move(*decoded)};
    }
  }
  return std::nullopt;
}

namespace {

/// What the texts in a kernel say of it, as it runs.
void look_at_texts(View kernel, Kernel& out) {
  out.banner = find_banner(kernel);
  out.ramdisk_word = other_ramdisk_word(kernel);
}

void look_inside(View bytes, Kernel& out, const DecodeLimit& limit) {
  const auto payload = find_payload(bytes, limit);
  if (!payload) return;
  look_at_texts(payload->decoded.bytes, out);
  out.compression = compression_name(payload->kind);
  out.decoded_size = payload->decoded.bytes.size();
  out.config = find_config(payload->decoded.bytes);
}

/// A kernel that names its payload's place.
void look_at_zboot(View bytes, Kernel& out, const DecodeLimit& limit) {
  if (bytes.size() < 64) return;
  const std::uint64_t at = load<std::uint32_t, LE>(bytes.data() + 8);
  const std::uint64_t size = load<std::uint32_t, LE>(bytes.data() + 12);
  out.compression = until_nul(bytes.subspan(24, 32));
  if (at > bytes.size() || size > bytes.size() - at) return;
  const View payload = bytes.subspan(at, size);
  const auto kind = detect_compression(payload);
  const auto decoded =
      kind ? decode(*kind, payload, limit) : Result<Decoded>(fail({.code = ErrorCode::BadMagic}));
  if (!decoded) return;
  Kernel inner;
  name_form(decoded->bytes, inner);
  out.architecture = inner.architecture;
  out.page_size = inner.page_size;
  out.decoded_size = decoded->bytes.size();
  look_at_texts(decoded->bytes, out);
  out.config = find_config(decoded->bytes);
}

/// What stands before the kernel in its section; returns where the kernel begins.
std::size_t skip_wrapping(View section, Kernel& out) {
  if (part_header::looks_like(section)) {
    out.wrapping = "chipset part header " + part_header::name_of(section.first(part_header::kSize));
    return part_header::kSize;
  }
  if (marked_size(section)) {
    out.wrapping = "mark UNCOMPRESSED_IMG";
    return kSizedHeader;
  }
  if (wrapping_size(section) == 0) return 0;
  out.wrapping = "uImage " + std::string(until_nul(section.subspan(32, 32)));
  return kUImageHeader;
}

std::string release_of(std::string_view banner) {
  for (int word = 0; word < 2 && !banner.empty(); ++word)
    banner.remove_prefix(std::min(banner.find(' ') + 1, banner.size()));
  return std::string(banner.substr(0, std::min(banner.find(' '), banner.size())));
}

}  // namespace

std::optional<std::uint64_t> marked_size(View section) {
  constexpr std::string_view kMark = "UNCOMPRESSED_IMG";
  if (section.size() < kSizedHeader || !text_at(section, 0, kMark)) return std::nullopt;
  const std::uint64_t size = load<std::uint32_t, LE>(section.data() + kMark.size());
  return std::min<std::uint64_t>(size, section.size() - kSizedHeader);
}

bool looks_like_kernel(View start) {
  Kernel out;
  name_form(start, out);
  return out.form != "unknown" || detect_compression(start).has_value();
}

std::size_t wrapping_size(View section) {
  if (part_header::looks_like(section)) return part_header::kSize;
  if (marked_size(section)) return kSizedHeader;
  const bool wrapped = section.size() > kUImageHeader &&
                       load<std::uint32_t, std::endian::big>(section.data()) == kUImageMagic;
  return wrapped ? kUImageHeader : 0;
}

Kernel read(const Blob& section, const DecodeLimit& limit) {
  Kernel out;
  const std::size_t begin = skip_wrapping(section.view(), out);
  const View bytes = section.view().subspan(begin);
  std::size_t trees_from = begin;
  if (const auto kind = detect_compression(bytes)) {
    out.compression = compression_name(*kind);
    const auto decoded = decode(*kind, bytes, limit);
    if (decoded) {
      out.decoded_size = decoded->bytes.size();
      trees_from = begin + decoded->consumed;
      name_form(decoded->bytes, out);
      look_at_texts(decoded->bytes, out);
      out.config = find_config(decoded->bytes);
    } else {
      out.form = "unknown";
      out.trouble = decoded.error().message;
    }
  } else {
    trees_from += marked_size(section.view()).value_or(0);
    name_form(bytes, out);
    look_at_texts(bytes, out);
    out.config = find_config(bytes);
    if (out.form == "EFI zboot")
      look_at_zboot(bytes, out, limit);
    else if (out.form == "ARM zImage" || out.form == "x86 bzImage")
      look_inside(bytes, out, limit);
  }
  out.release = release_of(out.banner);
  if (const auto at = find_trees(section, trees_from)) {
    out.trees_at = *at;
    out.trees = section.rest(*at);
  }
  return out;
}

}  // namespace wexlo::kernel
