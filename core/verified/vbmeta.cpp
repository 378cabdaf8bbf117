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

std::string text_of(View bytes) {
  return std::string(as_text(bytes));
}

Result<PropertyDescriptor> read_property(BeReader& in) {
  WEXLO_TRY(const auto key_size, in.get<std::uint64_t>("key_num_bytes"));
  WEXLO_TRY(const auto value_size, in.get<std::uint64_t>("value_num_bytes"));
  WEXLO_TRY(const View key, in.take(key_size, "property key"));
  WEXLO_CHECK(in.take(1, "property key's NUL"));
  WEXLO_TRY(const View value, in.take(value_size, "property value"));
  return PropertyDescriptor{text_of(key), text_of(value)};
}

Result<HashtreeDescriptor> read_hashtree(BeReader& in) {
  HashtreeDescriptor d;
  WEXLO_CHECK(in.take(4, "dm_verity_version"));
  WEXLO_TRY(d.image_size, in.get<std::uint64_t>("image_size"));
  WEXLO_TRY(d.tree_offset, in.get<std::uint64_t>("tree_offset"));
  WEXLO_TRY(d.tree_size, in.get<std::uint64_t>("tree_size"));
  WEXLO_TRY(d.data_block_size, in.get<std::uint32_t>("data_block_size"));
  WEXLO_TRY(d.hash_block_size, in.get<std::uint32_t>("hash_block_size"));
  WEXLO_TRY(d.fec_num_roots, in.get<std::uint32_t>("fec_num_roots"));
  WEXLO_TRY(d.fec_offset, in.get<std::uint64_t>("fec_offset"));
  WEXLO_TRY(d.fec_size, in.get<std::uint64_t>("fec_size"));
  WEXLO_TRY(const View algorithm, in.take(32, "hash_algorithm"));
  WEXLO_TRY(const auto name_size, in.get<std::uint32_t>("partition_name_len"));
  WEXLO_TRY(const auto salt_size, in.get<std::uint32_t>("salt_len"));
  WEXLO_TRY(const auto digest_size, in.get<std::uint32_t>("root_digest_len"));
  WEXLO_TRY(d.flags, in.get<std::uint32_t>("flags"));
  WEXLO_CHECK(in.take(60, "reserved"));
  WEXLO_TRY(const View name, in.take(name_size, "partition name"));
  WEXLO_TRY(const View salt, in.take(salt_size, "salt"));
  WEXLO_TRY(const View digest, in.take(digest_size, "root digest"));
  d.hash_algorithm = until_nul(algorithm);
  d.partition = text_of(name);
  d.salt = to_bytes(salt);
  d.root_digest = to_bytes(digest);
  return d;
}

Result<HashDescriptor> read_hash(BeReader& in) {
  HashDescriptor d;
  WEXLO_TRY(d.image_size, in.get<std::uint64_t>("image_size"));
  WEXLO_TRY(const View algorithm, in.take(32, "hash_algorithm"));
  WEXLO_TRY(const auto name_size, in.get<std::uint32_t>("partition_name_len"));
  WEXLO_TRY(const auto salt_size, in.get<std::uint32_t>("salt_len"));
  WEXLO_TRY(const auto digest_size, in.get<std::uint32_t>("digest_len"));
  WEXLO_TRY(d.flags, in.get<std::uint32_t>("flags"));
  WEXLO_CHECK(in.take(60, "reserved"));
  WEXLO_TRY(const View name, in.take(name_size, "partition name"));
  WEXLO_TRY(const View salt, in.take(salt_size, "salt"));
  WEXLO_TRY(const View digest, in.take(digest_size, "digest"));
  d.hash_algorithm = until_nul(algorithm);
  d.partition = text_of(name);
  d.salt = to_bytes(salt);
  d.digest = to_bytes(digest);
  return d;
}

Result<CmdlineDescriptor> read_cmdline(BeReader& in) {
  CmdlineDescriptor d;
  WEXLO_TRY(d.flags, in.get<std::uint32_t>("flags"));
  WEXLO_TRY(const auto size, in.get<std::uint32_t>("kernel_cmdline_length"));
  WEXLO_TRY(const View text, in.take(size, "kernel cmdline"));
  d.text = text_of(text);
  return d;
}

Result<ChainDescriptor> read_chain(BeReader& in) {
  ChainDescriptor d;
  WEXLO_TRY(d.rollback_index_location, in.get<std::uint32_t>("rollback_index_location"));
  WEXLO_TRY(const auto name_size, in.get<std::uint32_t>("partition_name_len"));
  WEXLO_TRY(const auto key_size, in.get<std::uint32_t>("public_key_len"));
  WEXLO_CHECK(in.take(64, "reserved"));
  WEXLO_TRY(const View name, in.take(name_size, "partition name"));
  WEXLO_TRY(const View key, in.take(key_size, "public key"));
  d.partition = text_of(name);
  d.public_key = to_bytes(key);
  return d;
}

using DescriptorValue = decltype(Descriptor::value);

template <class T>
Result<DescriptorValue> as_value(Result<T> read) {
  if (!read) return fail(std::move(read).error());
  return DescriptorValue(std::move(*read));
}

Result<DescriptorValue> read_body(std::uint64_t tag, BeReader in) {
  switch (tag) {
    case 0: return as_value(read_property(in));
    case 1: return as_value(read_hashtree(in));
    case 2: return as_value(read_hash(in));
    case 3: return as_value(read_cmdline(in));
    case 4: return as_value(read_chain(in));
    default: return UnknownDescriptor{tag, in.remaining()};
  }
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

Result<std::vector<Descriptor>> descriptors(const Image& vbmeta) {
  const Section& auxiliary = *vbmeta.section("auxiliary");
  const std::uint64_t begin = vbmeta.number("descriptors_offset");
  const std::uint64_t base = auxiliary.offset + begin;
  const View all = auxiliary.bytes.view().subspan(begin, vbmeta.number("descriptors_size"));
  std::vector<Descriptor> out;
  BeReader in(all, base);
  while (in.remaining() > 0) {
    const std::uint64_t at = in.position();
    WEXLO_TRY(const auto tag, in.get<std::uint64_t>("descriptor tag"));
    WEXLO_TRY(const auto size, in.get<std::uint64_t>("num_bytes_following"));
    if (size % 8 != 0)
      return fail({.code = ErrorCode::BadValue,
                   .message = "num_bytes_following is out of step",
                   .offset = base + at + 8,
                   .expected = "a multiple of 8",
                   .found = fmt::format("{}", size)});
    WEXLO_TRY(const View body, in.take(size, "descriptor"));
    WEXLO_TRY(auto value, read_body(tag, BeReader(body, base + at + 16)));
    out.push_back({begin + at, std::move(value)});
  }
  return out;
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
