/// Descriptors: what a vbmeta struct says of partitions. Each has a fixed part and, behind it
/// without gaps, parts whose lengths the fixed part gives.

#include <fmt/format.h>

#include "verified/vbmeta.hpp"

namespace wexlo::verified {
namespace {

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
  WEXLO_TRY(d.dm_verity_version, in.get<std::uint32_t>("dm_verity_version"));
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

Result<std::vector<Descriptor>> parse_descriptors(View bytes, std::uint64_t base, Strict strict) {
  std::vector<Descriptor> out;
  BeReader in(bytes, base);
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
    auto value = read_body(tag, BeReader(body, base + at + 16));
    if (!value && (strict == Strict::All || tag != 0)) return fail(std::move(value).error());
    out.push_back(
        {at, value ? std::move(*value) : UnknownDescriptor{tag, size}, in.position() - at});
  }
  return out;
}

namespace {

Result<std::vector<Descriptor>> read_descriptors(const Image& vbmeta, Strict strict) {
  const Section& auxiliary = *vbmeta.section("auxiliary");
  const std::uint64_t begin = vbmeta.number("descriptors_offset");
  const View all = auxiliary.bytes.view().subspan(begin, vbmeta.number("descriptors_size"));
  WEXLO_TRY(auto out, parse_descriptors(all, auxiliary.offset + begin, strict));
  for (Descriptor& one : out)
    one.offset += begin;
  return out;
}

}  // namespace

Result<std::vector<Descriptor>> descriptors(const Image& vbmeta) {
  return read_descriptors(vbmeta, Strict::All);
}

Result<std::vector<Descriptor>> descriptors_for_loaders(const Image& vbmeta) {
  return read_descriptors(vbmeta, Strict::Loaders);
}

}  // namespace wexlo::verified
