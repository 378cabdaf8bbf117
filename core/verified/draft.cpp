#include "verified/draft.hpp"
#include "verified/layout.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo::verified {
namespace {

constexpr std::size_t kReserved = 60, kChainReserved = 64;
constexpr std::size_t kBlockUnit = 64;
/// Where a kind keeps its reserved bytes, from the descriptor's start.
constexpr std::size_t kHashtreeReservedAt = 120, kHashReservedAt = 72, kChainReservedAt = 28;
constexpr std::uint32_t kOnce = 2;  ///< descriptor flags that need a newer reader

void put_be32(Bytes& at, std::size_t offset, std::uint32_t value) {
  store<std::uint32_t, std::endian::big>(at.data() + offset, value);
}
void put_be64(Bytes& at, std::size_t offset, std::uint64_t value) {
  store<std::uint64_t, std::endian::big>(at.data() + offset, value);
}

std::uint32_t length(const auto& bytes) {
  return static_cast<std::uint32_t>(bytes.size());
}

/// Writes one kind's body; reserved bytes come from the descriptor that is replaced.
struct Encode {
  BeWriter out;
  View like;

  void reserved(std::uint64_t tag, std::size_t at, std::size_t size) {
    const bool same =
        like.size() >= at + size && load<std::uint64_t, std::endian::big>(like.data()) == tag;
    if (same)
      out.put(like.subspan(at, size));
    else
      out.zeros(size);
  }

  std::uint64_t operator()(const PropertyDescriptor& d) {
    out.put(std::uint64_t{d.key.size()});
    out.put(std::uint64_t{d.value.size()});
    out.text(d.key, d.key.size() + 1);
    out.text(d.value, d.value.size() + 1);
    return 0;
  }
  std::uint64_t operator()(const HashtreeDescriptor& d) {
    out.put(d.dm_verity_version);
    for (const std::uint64_t value : {d.image_size, d.tree_offset, d.tree_size})
      out.put(value);
    for (const std::uint32_t value : {d.data_block_size, d.hash_block_size, d.fec_num_roots})
      out.put(value);
    out.put(d.fec_offset);
    out.put(d.fec_size);
    out.text(d.hash_algorithm, 32);
    for (const std::uint32_t value :
         {length(d.partition), length(d.salt), length(d.root_digest), d.flags})
      out.put(value);
    reserved(1, kHashtreeReservedAt, kReserved);
    for (const View part : {as_view(d.partition), View(d.salt), View(d.root_digest)})
      out.put(part);
    return 1;
  }
  std::uint64_t operator()(const HashDescriptor& d) {
    out.put(d.image_size);
    out.text(d.hash_algorithm, 32);
    for (const std::uint32_t value :
         {length(d.partition), length(d.salt), length(d.digest), d.flags})
      out.put(value);
    reserved(2, kHashReservedAt, kReserved);
    for (const View part : {as_view(d.partition), View(d.salt), View(d.digest)})
      out.put(part);
    return 2;
  }
  std::uint64_t operator()(const CmdlineDescriptor& d) {
    out.put(d.flags);
    out.put(length(d.text));
    out.put(as_view(d.text));
    return 3;
  }
  std::uint64_t operator()(const ChainDescriptor& d) {
    out.put(d.rollback_index_location);
    out.put(length(d.partition));
    out.put(length(d.public_key));
    reserved(4, kChainReservedAt, kChainReserved);
    out.put(as_view(d.partition));
    out.put(View(d.public_key));
    return 4;
  }
  std::uint64_t operator()(const UnknownDescriptor& d) { return d.tag; }
};

/// Sets a range of the auxiliary block in the header.
void set_range(Bytes& header, std::size_t at, std::uint64_t offset, std::uint64_t size) {
  put_be64(header, at, offset);
  put_be64(header, at + 8, size);
}

std::uint64_t be64(View at, std::size_t offset) {
  return load<std::uint64_t, std::endian::big>(at.data() + offset);
}

enum : std::size_t {
  MinorAt = 8,
  AuthenticationSizeAt = 12,
  AuxiliarySizeAt = 20,
  AlgorithmAt = 28,
  HashAt = 32,
  SignatureAt = 48,
  KeyAt = 64,
  MetadataAt = 80,
  DescriptorsAt = 96,
  RollbackAt = 112,
  FlagsAt = 120,
  LocationAt = 124,
  ReleaseAt = 128
};

/// The auxiliary block; its ranges go into the header.
Bytes auxiliary_block(const Draft& draft, Bytes& header, View key) {
  Bytes descriptors;
  for (const Bytes& one : draft.descriptors)
    append(descriptors, View(one));
  const auto stays = [&](std::size_t at, std::size_t size) { return be64(header, at + 8) == size; };
  if (!draft.auxiliary.empty() && stays(DescriptorsAt, descriptors.size()) &&
      stays(KeyAt, key.size()) && stays(MetadataAt, draft.key_metadata.size())) {
    Bytes out = draft.auxiliary;
    std::ranges::copy(descriptors,
                      out.begin() + static_cast<std::ptrdiff_t>(be64(header, DescriptorsAt)));
    std::ranges::copy(key, out.begin() + static_cast<std::ptrdiff_t>(be64(header, KeyAt)));
    return out;
  }
  Bytes out = std::move(descriptors);
  set_range(header, DescriptorsAt, 0, out.size());
  set_range(header, KeyAt, out.size(), key.size());
  append(out, key);
  set_range(header, MetadataAt, draft.key_metadata.empty() ? 0 : out.size(),
            draft.key_metadata.size());
  append(out, View(draft.key_metadata));
  out.resize(align_up(out.size(), kBlockUnit));
  return out;
}

std::uint32_t needed_minor(const Draft& draft) {
  std::uint32_t minor = 0;
  for (const Descriptor& one : draft.parsed()) {
    std::uint32_t flags = 0;
    if (const auto* hash = std::get_if<HashDescriptor>(&one.value)) flags = hash->flags;
    if (const auto* tree = std::get_if<HashtreeDescriptor>(&one.value)) flags = tree->flags;
    if ((flags & (kNoSlot | kOnce)) != 0) minor = 1;
  }
  const auto location = load<std::uint32_t, std::endian::big>(draft.header.data() + LocationAt);
  return location != 0 ? std::max(minor, 2u) : minor;
}

}  // namespace

Bytes encode_descriptor(const decltype(Descriptor::value)& value, View like) {
  Bytes body;
  const std::uint64_t tag = std::visit(Encode{BeWriter(body), like}, value);
  Bytes out;
  BeWriter writer(out);
  writer.put(tag);
  writer.put(std::uint64_t{align_up(body.size(), 8)});
  writer.put(View(body));
  writer.align(8);
  return out;
}

std::string_view partition_of(const Descriptor& descriptor) {
  if (const auto* d = std::get_if<HashDescriptor>(&descriptor.value)) return d->partition;
  if (const auto* d = std::get_if<HashtreeDescriptor>(&descriptor.value)) return d->partition;
  if (const auto* d = std::get_if<ChainDescriptor>(&descriptor.value)) return d->partition;
  return {};
}

void Draft::set_rollback_index(std::uint64_t value) {
  put_be64(header, RollbackAt, value);
}
void Draft::set_rollback_location(std::uint32_t value) {
  put_be32(header, LocationAt, value);
}
void Draft::set_flags(std::uint32_t value) {
  put_be32(header, FlagsAt, value);
}

std::vector<Descriptor> Draft::parsed() const {
  std::vector<Descriptor> out;
  for (const Bytes& one : descriptors) {
    auto parsed = parse_descriptors(one, 0);
    if (parsed && !parsed->empty()) out.push_back(std::move(parsed->front()));
  }
  return out;
}

void Draft::set_property(const std::string& key, const std::optional<std::string>& value) {
  const auto all = parsed();
  std::vector<Bytes> kept;
  bool set = false;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const auto* property = std::get_if<PropertyDescriptor>(&all[i].value);
    if (property == nullptr || property->key != key) {
      kept.push_back(std::move(descriptors[i]));
    } else if (value && !set) {
      kept.push_back(encode_descriptor(PropertyDescriptor{key, *value}));
      set = true;
    }
  }
  if (value && !set) kept.push_back(encode_descriptor(PropertyDescriptor{key, *value}));
  descriptors = std::move(kept);
}

bool Draft::set_claim(const decltype(Descriptor::value)& value) {
  const Descriptor fresh{0, value};
  const auto all = parsed();
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (partition_of(all[i]) != partition_of(fresh)) continue;
    Bytes bytes = encode_descriptor(value, descriptors[i]);
    if (bytes == descriptors[i]) return false;
    descriptors[i] = std::move(bytes);
    return true;
  }
  descriptors.push_back(encode_descriptor(value));
  return true;
}

Draft new_draft() {
  Draft out{.header = Bytes(kVbmetaHeader)};
  std::ranges::copy(as_view(kMagic), out.header.begin());
  put_be32(out.header, 4, 1);
  std::ranges::copy(as_view("wexlo"), out.header.begin() + ReleaseAt);
  return out;
}

Result<Draft> draft_of(const Image& vbmeta) {
  WEXLO_TRY(const auto all, descriptors(vbmeta));
  const View auxiliary = vbmeta.section("auxiliary")->bytes.view();
  const auto range = [&](std::string_view offset, std::string_view size) {
    return to_bytes(auxiliary.subspan(vbmeta.number(offset), vbmeta.number(size)));
  };
  Draft out{.header = to_bytes(vbmeta.header()),
            .public_key = range("public_key_offset", "public_key_size"),
            .key_metadata = range("public_key_metadata_offset", "public_key_metadata_size"),
            .auxiliary = to_bytes(auxiliary)};
  const std::uint64_t end = vbmeta.number("descriptors_offset") + vbmeta.number("descriptors_size");
  for (std::size_t i = 0; i < all.size(); ++i) {
    const std::uint64_t next = i + 1 < all.size() ? all[i + 1].offset : end;
    out.descriptors.push_back(to_bytes(auxiliary.subspan(all[i].offset, next - all[i].offset)));
  }
  return out;
}

DigestKind signed_digest(const Image& vbmeta) {
  const auto algorithm = algorithm_of(vbmeta.number("algorithm_type"));
  return algorithm ? algorithm->digest : DigestKind::Sha256;
}

Result<Bytes> write_struct(const Draft& draft, const Signer* signer, DigestKind kind) {
  Bytes header = draft.header;
  std::optional<Algorithm> algorithm;
  if (signer != nullptr) {
    algorithm = algorithm_for(kind, signer->bits());
    if (!algorithm)
      return fail({.code = ErrorCode::Unsupported,
                   .message = fmt::format("verified boot has no algorithm of {} with such a key",
                                          digest_name(kind)),
                   .expected = "SHA-256 or SHA-512, RSA with 2048, 4096 or 8192 bits",
                   .found = fmt::format("{} bits", signer->bits())});
  }
  const View key = signer != nullptr ? View(signer->public_key()) : View();
  const Bytes auxiliary = auxiliary_block(draft, header, key);
  const std::size_t hash_size = algorithm ? digest_size(kind) : 0;
  const std::size_t signature_size = algorithm ? algorithm->bits / 8 : 0;
  Bytes authentication(align_up(hash_size + signature_size, kBlockUnit));
  const auto minor = load<std::uint32_t, std::endian::big>(header.data() + MinorAt);
  // A maker's own number stands: its loader reads what its struct has.
  if (draft.auxiliary.empty()) put_be32(header, MinorAt, std::max(minor, needed_minor(draft)));
  put_be64(header, AuthenticationSizeAt, authentication.size());
  put_be64(header, AuxiliarySizeAt, auxiliary.size());
  put_be32(header, AlgorithmAt, algorithm ? algorithm->id : 0);
  set_range(header, HashAt, 0, hash_size);
  set_range(header, SignatureAt, hash_size, signature_size);
  const std::size_t size = header.size() + authentication.size() + auxiliary.size();
  if (size > kMaxVbmeta)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the verified-boot struct is larger than loaders read",
                 .expected = fmt::format("at most {} bytes", kMaxVbmeta),
                 .found = fmt::format("{} bytes", size),
                 .hint = "Take properties out, or chain partitions instead of naming them all."});
  if (signer != nullptr) {
    Hasher hasher(kind);
    hasher.update(header);
    hasher.update(auxiliary);
    const Bytes hash = hasher.finish();
    WEXLO_TRY(const Bytes signature, signer->sign(kind, hash));
    std::ranges::copy(hash, authentication.begin());
    std::ranges::copy(signature, authentication.begin() + static_cast<std::ptrdiff_t>(hash_size));
  }
  append(header, View(authentication));
  append(header, View(auxiliary));
  return header;
}

}  // namespace wexlo::verified
