#include "verified/struct_info.hpp"

#include <fmt/format.h>

#include "base/digest.hpp"

namespace wexlo {
namespace {

/// How one descriptor is told, by kind.
struct Tell {
  using Values = std::vector<std::pair<std::string, std::string>>;
  static std::string number(std::uint64_t value) { return fmt::format("{}", value); }

  DescriptorInfo operator()(const verified::PropertyDescriptor& d) const {
    return {"property", "", {{"key", d.key}, {"value", d.value}}};
  }
  DescriptorInfo operator()(const verified::HashtreeDescriptor& d) const {
    return {"hashtree", d.partition,
            Values{{"hash_algorithm", d.hash_algorithm},
                   {"image_size", number(d.image_size)},
                   {"tree_offset", number(d.tree_offset)},
                   {"tree_size", number(d.tree_size)},
                   {"data_block_size", number(d.data_block_size)},
                   {"hash_block_size", number(d.hash_block_size)},
                   {"fec_num_roots", number(d.fec_num_roots)},
                   {"fec_offset", number(d.fec_offset)},
                   {"fec_size", number(d.fec_size)},
                   {"flags", number(d.flags)},
                   {"salt", hex(d.salt)},
                   {"root_digest", hex(d.root_digest)}}};
  }
  DescriptorInfo operator()(const verified::HashDescriptor& d) const {
    return {"hash", d.partition,
            Values{{"hash_algorithm", d.hash_algorithm},
                   {"image_size", number(d.image_size)},
                   {"flags", number(d.flags)},
                   {"salt", hex(d.salt)},
                   {"digest", hex(d.digest)}}};
  }
  DescriptorInfo operator()(const verified::CmdlineDescriptor& d) const {
    return {"kernel-cmdline", "", {{"flags", number(d.flags)}, {"text", d.text}}};
  }
  DescriptorInfo operator()(const verified::ChainDescriptor& d) const {
    return {"chain", d.partition,
            Values{{"rollback_index_location", number(d.rollback_index_location)},
                   {"public_key_sha256", sha256_hex(d.public_key)}}};
  }
  DescriptorInfo operator()(const verified::UnknownDescriptor& d) const {
    return {"unknown", "", {{"tag", number(d.tag)}, {"size", number(d.size)}}};
  }
};

}  // namespace

Result<VbmetaInfo> vbmeta_info(const Image& vbmeta) {
  VbmetaInfo info{.algorithm = verified::algorithm_name(vbmeta.number("algorithm_type")),
                  .release = std::string(until_nul(vbmeta.raw("release_string"))),
                  .rollback_index = vbmeta.number("rollback_index"),
                  .flags = vbmeta.number("flags"),
                  .flag_names = verified::flag_names(vbmeta.number("flags")),
                  .hash_matches = verified::own_hash_matches(vbmeta)};
  const View key =
      vbmeta.section("auxiliary")
          ->bytes.view()
          .subspan(vbmeta.number("public_key_offset"), vbmeta.number("public_key_size"));
  if (!key.empty()) info.public_key_sha256 = sha256_hex(key);
  WEXLO_TRY(const auto all, verified::descriptors(vbmeta));
  for (const auto& descriptor : all)
    info.descriptors.push_back(std::visit(Tell{}, descriptor.value));
  return info;
}

Result<std::optional<FooterInfo>> footer_info(View bytes) {
  WEXLO_TRY(const auto footer, verified::find_footer(bytes));
  if (!footer) return std::nullopt;
  FooterInfo info{.original_image_size = footer->original_image_size,
                  .vbmeta_offset = footer->vbmeta_offset,
                  .vbmeta_size = footer->vbmeta_size};
  const Blob raw(to_bytes(bytes.subspan(footer->vbmeta_offset, footer->vbmeta_size)));
  auto vbmeta = verified::parse_vbmeta(raw);
  if (!vbmeta) return fail(at_base(std::move(vbmeta).error(), footer->vbmeta_offset));
  WEXLO_TRY(info.vbmeta, vbmeta_info(*vbmeta));
  WEXLO_TRY(info.digest_matches, verified::own_digest_matches(bytes));
  return info;
}

Result<std::optional<FooterInfo>> footer_info(const Source& image) {
  WEXLO_TRY(const auto footer, verified::read_footer(image));
  if (!footer) return std::nullopt;
  FooterInfo info{.original_image_size = footer->original_image_size,
                  .vbmeta_offset = footer->vbmeta_offset,
                  .vbmeta_size = footer->vbmeta_size};
  if (footer->vbmeta_size > verified::kMaxVbmeta)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the verified-boot footer claims a struct that loaders do not read",
                 .file = image.name(),
                 .offset = footer->end - verified::kFooterSize,
                 .expected = fmt::format("at most {} bytes", verified::kMaxVbmeta),
                 .found = fmt::format("{} bytes", footer->vbmeta_size)});
  WEXLO_TRY(Bytes bytes, read_some(image, footer->vbmeta_offset, footer->vbmeta_size));
  auto vbmeta = verified::parse_vbmeta(Blob(std::move(bytes)));
  if (!vbmeta) return fail(at_base(std::move(vbmeta).error(), footer->vbmeta_offset));
  WEXLO_TRY(info.vbmeta, vbmeta_info(*vbmeta));
  return info;
}

std::optional<FooterInfo> boot_signature_info(const Image& image, View bytes) {
  const Section* section = image.section("boot_signature");
  if (section == nullptr || !verified::looks_like_vbmeta(section->bytes.view()))
    return std::nullopt;
  const auto vbmeta = verified::parse_vbmeta(section->bytes);
  if (!vbmeta) return std::nullopt;
  auto facts = vbmeta_info(*vbmeta);
  if (!facts) return std::nullopt;
  FooterInfo info{.original_image_size = section->offset,
                  .vbmeta_offset = section->offset,
                  .vbmeta_size = section->bytes.size() - vbmeta->tail().size(),
                  .vbmeta = std::move(*facts)};
  const auto matches =
      verified::hash_matches(*vbmeta, bytes.first(static_cast<std::size_t>(section->offset)));
  if (matches) info.digest_matches = *matches;
  return info;
}

}  // namespace wexlo
