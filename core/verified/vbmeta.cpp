#include "verified/vbmeta.hpp"

#include <fmt/format.h>

#include <array>

#include "base/digest.hpp"

namespace wexlo::verified {
namespace {

using enum FieldType;

constexpr std::array kFields{
    Field{"magic", 0, 4, Raw},
    Field{"required_version_major", 4, 4, U32},
    Field{"required_version_minor", 8, 4, U32},
    Field{"authentication_data_block_size", 12, 8, U64},
    Field{"auxiliary_data_block_size", 20, 8, U64},
    Field{"algorithm_type", 28, 4, U32},
    Field{"hash_offset", 32, 8, U64},
    Field{"hash_size", 40, 8, U64},
    Field{"signature_offset", 48, 8, U64},
    Field{"signature_size", 56, 8, U64},
    Field{"public_key_offset", 64, 8, U64},
    Field{"public_key_size", 72, 8, U64},
    Field{"public_key_metadata_offset", 80, 8, U64},
    Field{"public_key_metadata_size", 88, 8, U64},
    Field{"descriptors_offset", 96, 8, U64},
    Field{"descriptors_size", 104, 8, U64},
    Field{"rollback_index", 112, 8, U64},
    Field{"flags", 120, 4, U32},
    Field{"release_string", 128, 48, Text},
};
constexpr std::array kSections{
    SectionRule{"authentication", "authentication_data_block_size"},
    SectionRule{"auxiliary", "auxiliary_data_block_size"},
};
constexpr Layout kLayout{"vbmeta", 1, std::endian::big, 256, 1, kFields, kSections};

/// Ranges that the header gives inside its two blocks.
struct Inner {
  std::string_view block, offset, size;
};
constexpr std::array kInner{
    Inner{"authentication", "hash_offset", "hash_size"},
    Inner{"authentication", "signature_offset", "signature_size"},
    Inner{"auxiliary", "public_key_offset", "public_key_size"},
    Inner{"auxiliary", "public_key_metadata_offset", "public_key_metadata_size"},
    Inner{"auxiliary", "descriptors_offset", "descriptors_size"},
};

Status check_inner(const Image& image) {
  for (const Inner& inner : kInner) {
    const std::uint64_t block = image.section(inner.block)->bytes.size();
    const std::uint64_t offset = image.number(inner.offset), size = image.number(inner.size);
    if (offset <= block && size <= block - offset) continue;
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("{} and {} reach outside the {} block", inner.offset,
                                        inner.size, inner.block),
                 .offset = kLayout.field(inner.offset)->offset,
                 .expected = fmt::format("at most {} bytes", block),
                 .found = fmt::format("{} bytes from {}", size, offset),
                 .hint = "Verified boot refuses such a struct even on an unlocked phone."});
  }
  for (const SectionRule& rule : kSections) {
    if (image.number(rule.size_field) % 64 == 0) continue;
    return fail({.code = ErrorCode::BadValue,
                 .message = fmt::format("{} is out of step", rule.size_field),
                 .offset = kLayout.field(rule.size_field)->offset,
                 .expected = "a multiple of 64",
                 .found = fmt::format("{}", image.number(rule.size_field)),
                 .hint = "Verified boot refuses such a struct even on an unlocked phone."});
  }
  return {};
}

}  // namespace

bool looks_like_vbmeta(View start) {
  return as_text(start).starts_with(kMagic);
}

Result<Image> parse_vbmeta(const Blob& bytes) {
  if (!looks_like_vbmeta(bytes.view()))
    return fail({.code = ErrorCode::BadMagic,
                 .message = "not a vbmeta image",
                 .offset = 0,
                 .expected = std::string(kMagic),
                 .found = hex(bytes.view().first(std::min<std::size_t>(4, bytes.size())))});
  WEXLO_TRY(Image image, Image::parse(kLayout, bytes));
  if (image.number("required_version_major") != 1)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "vbmeta of another major version",
                 .offset = 4,
                 .expected = "1",
                 .found = fmt::format("{}", image.number("required_version_major"))});
  WEXLO_CHECK(check_inner(image));
  return image;
}

std::string algorithm_name(std::uint64_t type) {
  if (type == 0) return "none";
  if (type > 6) return fmt::format("unknown ({})", type);
  constexpr std::array bits{2048, 4096, 8192};
  return fmt::format("{}-rsa{}", type <= 3 ? "sha256" : "sha512", bits[(type - 1) % 3]);
}

std::optional<bool> own_hash_matches(const Image& vbmeta) {
  const std::uint64_t type = vbmeta.number("algorithm_type");
  if (type == 0 || type > 6) return std::nullopt;
  const View stored = vbmeta.section("authentication")
                          ->bytes.view()
                          .subspan(vbmeta.number("hash_offset"), vbmeta.number("hash_size"));
  Hasher hasher(type <= 3 ? DigestKind::Sha256 : DigestKind::Sha512);
  hasher.update(vbmeta.header());
  hasher.update(vbmeta.section("auxiliary")->bytes.view());
  return equal(hasher.finish(), stored);
}

std::vector<std::string> flag_names(std::uint64_t flags) {
  std::vector<std::string> names;
  if (flags & HashtreeDisabled) names.emplace_back("hashtree-disabled");
  if (flags & VerificationDisabled) names.emplace_back("verification-disabled");
  for (unsigned bit = 2; bit < 32; ++bit)
    if (flags >> bit & 1) names.push_back(fmt::format("bit-{}", bit));
  return names;
}

std::optional<std::uint32_t> flag_named(std::string_view name) {
  if (name == "hashtree-disabled") return HashtreeDisabled;
  if (name == "verification-disabled") return VerificationDisabled;
  return std::nullopt;
}

}  // namespace wexlo::verified
