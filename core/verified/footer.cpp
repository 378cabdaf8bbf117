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

/// What is read of a file whose last bytes are no footer: its end, in whole blocks.
std::uint64_t begin_of_end(std::uint64_t size) {
  const std::uint64_t whole = size - size % kBlock;
  return whole - std::min(whole, kBehindFooter);
}

/// The footer that stands last in a file's end, with bytes behind it. It has to lead to a struct.
/// @param begin      where `end` begins in the file, a multiple of a block
/// @param is_struct  do struct magic and size stand at such a place?
template <class IsStruct>
Result<std::optional<Footer>> footer_before(View end, std::uint64_t begin, IsStruct is_struct) {
  for (std::size_t last = end.size() - end.size() % kBlock; last > 0; last -= kBlock) {
    auto footer = parse_footer(end.subspan(last - kFooterSize, kFooterSize));
    const std::uint64_t at = begin + last - kFooterSize;
    if (!footer || footer->original_image_size > at || footer->vbmeta_offset > at ||
        footer->vbmeta_size > at - footer->vbmeta_offset || footer->vbmeta_size < kMagic.size())
      continue;
    WEXLO_TRY(const bool leads, is_struct(footer->vbmeta_offset));
    if (!leads) continue;
    footer->end = begin + last;
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
  if (partition.size() < kFooterSize) return std::nullopt;
  Bytes raw(kFooterSize);
  WEXLO_CHECK(partition.read_at(partition.size() - kFooterSize, raw));
  if (auto footer = parse_footer(raw)) {
    footer->end = partition.size();
    return footer;
  }
  const std::uint64_t begin = begin_of_end(partition.size());
  WEXLO_TRY(const Bytes end, read_some(partition, begin, kBehindFooter));
  return footer_before(end, begin, [&](std::uint64_t at) -> Result<bool> {
    WEXLO_TRY(const Bytes magic, read_some(partition, at, kMagic.size()));
    return as_text(magic) == kMagic;
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
  const View footer = image.subspan(static_cast<std::size_t>(at));
  if (!as_text(footer).starts_with(kFooterMagic)) {
    const std::uint64_t begin = begin_of_end(image.size());
    return footer_before(
        image.subspan(static_cast<std::size_t>(begin)), begin, [&](std::uint64_t place) {
          return Result<bool>(
              as_text(image.subspan(static_cast<std::size_t>(place))).starts_with(kMagic));
        });
  }
  const auto major = load<std::uint32_t, std::endian::big>(footer.data() + 4);
  if (major > 1)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "a verified-boot footer of a newer major version",
                 .offset = at + 4,
                 .expected = "1",
                 .found = fmt::format("{}", major)});
  Footer out = *parse_footer(footer);
  out.end = image.size();
  const bool inside = out.original_image_size <= at && out.vbmeta_offset <= at &&
                      out.vbmeta_size <= at - out.vbmeta_offset;
  if (!inside)
    return fail(
        {.code = ErrorCode::OutOfRange,
         .message = "the verified-boot footer points outside the image",
         .offset = at + kOriginalSizeAt,
         .expected = fmt::format("ranges inside the first {} bytes", at),
         .found = fmt::format("image {} bytes, vbmeta {} bytes from {}", out.original_image_size,
                              out.vbmeta_size, out.vbmeta_offset)});
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
