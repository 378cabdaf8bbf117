/// The footer at a partition's end, and whether its digest matches.

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "verified/chain.hpp"
#include "verified/hash_tree.hpp"
#include "verified/layout.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::verified {
namespace {

constexpr std::uint64_t kBlock = 4096;  ///< partitions, and so footers, end at a multiple of this

/// Whether a hash descriptor matches; nullopt: it has no digest, one of a kind that is not known,
/// or covers more than there is.
std::optional<bool> is_true(const HashDescriptor& hash, View content) {
  const auto kind = hash_algorithm(hash.hash_algorithm);
  if (hash.digest.empty() || !kind || hash.image_size > content.size()) return std::nullopt;
  const View covered = content.first(static_cast<std::size_t>(hash.image_size));
  return equal(salted_digest(*kind, hash.salt, covered), hash.digest);
}

/// The footer at an image's end, or before what a maker put behind it: that one has to lead to a
/// struct.
/// @param read  gives bytes of the image: an offset, and how many
template <class Read>
Result<std::optional<Footer>> footer_by(std::uint64_t size, Read read) {
  if (size < kFooterSize) return std::nullopt;
  WEXLO_TRY(const auto last, read(size - kFooterSize, kFooterSize));
  if (auto footer = parse_footer(last)) {
    footer->end = size;
    return footer;
  }
  const std::uint64_t whole = size - size % kBlock, begin = whole - std::min(whole, kBehindFooter);
  WEXLO_TRY(const auto blocks, read(begin, whole - begin));
  for (std::uint64_t end = whole; end > begin; end -= kBlock) {
    const std::uint64_t at = end - kFooterSize;
    auto footer =
        parse_footer(View(blocks).subspan(static_cast<std::size_t>(at - begin), kFooterSize));
    if (!footer || footer->original_image_size > at || footer->vbmeta_offset > at ||
        footer->vbmeta_size > at - footer->vbmeta_offset || footer->vbmeta_size < kMagic.size())
      continue;
    WEXLO_TRY(const auto magic, read(footer->vbmeta_offset, kMagic.size()));
    if (as_text(magic) != kMagic) continue;
    footer->end = end;
    return footer;
  }
  return std::nullopt;
}

}  // namespace

std::optional<Footer> parse_footer(View raw) {
  if (raw.size() != kFooterSize || !as_text(raw).starts_with(kFooterMagic) ||
      load<std::uint32_t, std::endian::big>(raw.data() + 4) > 1)
    return std::nullopt;
  const auto number = [&](std::size_t at) {
    return load<std::uint64_t, std::endian::big>(raw.data() + at);
  };
  return Footer{number(kOriginalSizeAt), number(kVbmetaOffsetAt), number(kVbmetaSizeAt), 0};
}

Result<std::optional<Footer>> read_footer(const Source& partition) {
  return footer_by(partition.size(), [&](std::uint64_t at, std::uint64_t size) {
    return read_some(partition, at, size);
  });
}

Bytes write_footer(const Footer& footer) {
  Bytes out;
  BeWriter writer(out);
  writer.text(kFooterMagic, kFooterMagic.size());
  writer.put(std::uint32_t{1});
  writer.put(std::uint32_t{0});
  writer.put(footer.original_image_size);
  writer.put(footer.vbmeta_offset);
  writer.put(footer.vbmeta_size);
  writer.zeros(kFooterSize - out.size());
  return out;
}

Result<std::optional<Footer>> find_footer(View image) {
  if (image.size() < kFooterSize) return std::nullopt;
  const std::uint64_t at = image.size() - kFooterSize;
  const View last = image.subspan(static_cast<std::size_t>(at));
  if (as_text(last).starts_with(kFooterMagic))
    if (const auto major = load<std::uint32_t, std::endian::big>(last.data() + 4); major > 1)
      return fail({.code = ErrorCode::Unsupported,
                   .message = "a verified-boot footer of a newer major version",
                   .offset = at + 4,
                   .expected = "1",
                   .found = fmt::format("{}", major)});
  WEXLO_TRY(const auto out, footer_by(image.size(), [&](std::uint64_t begin, std::uint64_t size) {
              return Result<View>(
                  image.subspan(static_cast<std::size_t>(begin), static_cast<std::size_t>(size)));
            }));
  if (!out) return std::nullopt;
  const std::uint64_t room = out->end - kFooterSize;
  const bool inside = out->original_image_size <= room && out->vbmeta_offset <= room &&
                      out->vbmeta_size <= room - out->vbmeta_offset;
  if (!inside)
    return fail(
        {.code = ErrorCode::OutOfRange,
         .message = "the verified-boot footer points outside the image",
         .offset = room + kOriginalSizeAt,
         .expected = fmt::format("ranges inside the first {} bytes", room),
         .found = fmt::format("image {} bytes, vbmeta {} bytes from {}", out->original_image_size,
                              out->vbmeta_size, out->vbmeta_offset)});
  return out;
}

std::optional<bool> hash_matches(const Image& vbmeta, View content) {
  const auto all = descriptors(vbmeta);
  if (!all) return std::nullopt;
  std::optional<bool> any;
  for (const Descriptor& descriptor : *all) {
    const auto* hash = std::get_if<HashDescriptor>(&descriptor.value);
    const auto matches = hash == nullptr ? std::nullopt : is_true(*hash, content);
    if (matches) any = any.value_or(false) || *matches;
  }
  return any;
}

std::optional<std::size_t> own_hash_descriptor(const std::vector<Descriptor>& all, View content,
                                               std::string_view partition) {
  std::vector<std::size_t> found;
  for (std::size_t i = 0; i < all.size(); ++i)
    if (const auto* hash = std::get_if<HashDescriptor>(&all[i].value);
        hash != nullptr && !hash->digest.empty())
      found.push_back(i);
  if (found.size() == 1) return found.front();
  const auto which = [&](auto suits) -> std::optional<std::size_t> {
    const auto at = std::ranges::find_if(
        found, [&](std::size_t i) { return suits(std::get<HashDescriptor>(all[i].value)); });
    return at == found.end() ? std::nullopt : std::optional(*at);
  };
  const auto covers =
      which([&](const HashDescriptor& hash) { return is_true(hash, content).value_or(false); });
  if (covers) return covers;
  return which([&](const HashDescriptor& hash) { return hash.partition == partition; });
}

Result<std::optional<Image>> own_struct(View image) {
  WEXLO_TRY(const auto footer, find_footer(image));
  if (!footer) return std::nullopt;
  return parse_vbmeta(Blob(to_bytes(image.subspan(footer->vbmeta_offset, footer->vbmeta_size))));
}

Result<std::optional<bool>> own_digest_matches(View image) {
  WEXLO_TRY(const auto vbmeta, own_struct(image));
  if (!vbmeta) return std::nullopt;
  WEXLO_CHECK(descriptors(*vbmeta));
  return hash_matches(*vbmeta, image);
}

}  // namespace wexlo::verified
