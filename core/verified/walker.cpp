#include "verified/chain.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "image/partitions.hpp"
#include "text/text.hpp"
#include "verified/chain_claims.hpp"
#include "verified/key.hpp"
#include "verified/layout.hpp"

namespace wexlo::verified {
namespace {

constexpr std::size_t kHeader = 256;
constexpr std::uint32_t kOldMinor = 1;  ///< that every loader in the field reads
constexpr std::size_t kMaxStructs = 32, kMaxName = 31;
constexpr std::uint32_t kLocations = 32;

class Walker {
 public:
  Walker(const WalkOptions& options, const Context& context)
      : options_(options), context_(context) {}

  Result<Walk> run() {
    WEXLO_TRY(SourcePtr top, find("vbmeta", true));
    std::string name = "vbmeta";
    if (top == nullptr) {
      WEXLO_TRY(top, find("boot", true));
      name = "boot";
      if (top == nullptr) return std::move(out_);
      WEXLO_TRY(const auto place, find_struct(*top, "boot"));
      if (!place) return std::move(out_);
    }
    WEXLO_CHECK(read_struct(name, top, -1, 0, nullptr));
    WEXLO_CHECK(finish_digest());
    return std::move(out_);
  }

 private:
  Result<SourcePtr> find(const std::string& name, bool with_slot) {
    if (with_slot && !options_.suffix.empty()) {
      WEXLO_TRY(SourcePtr found, options_.find(name + options_.suffix));
      if (found != nullptr) return found;
    }
    return options_.find(name);
  }

  /// One struct, and all that it covers. @param expected  the chaining struct's key
  Status read_struct(const std::string& name, const SourcePtr& partition, int parent,
                     std::uint32_t location, const Bytes* expected) {
    WEXLO_CHECK(check_stop(context_));
    const int index = static_cast<int>(out_.structs.size());
    out_.structs.push_back({.partition = name, .parent = parent, .location = location});
    if (partition == nullptr && !options_.whole) {
      claims_.stand(name, Standing::Missing);
      digest_known_ = false;
      return {};
    }
    if (partition == nullptr) {
      claims_.fault(FindingCode::VerifiedStruct, name, Standing::Missing,
                    fmt::format("{} is chained, and there is no such partition.", name), true,
                    true);
      return {};
    }
    WEXLO_TRY(const auto place, find_struct(*partition, name));
    out_.structs[index].held_by = partition->name();
    const StructPlace at = place.value_or(StructPlace{0, kMaxVbmeta, false});
    auto read = read_some(*partition, at.offset, std::min(at.size, kMaxVbmeta));
    if (!read) return fail(std::move(read).error());
    const Blob bytes(std::move(*read));
    ChainStruct& one = out_.structs[index];
    one.in_footer = at.in_footer;
    one.offset = at.offset;
    if (const auto accepted = loader_accepts(bytes.view()); !accepted) {
      const bool none = !looks_like_vbmeta(bytes.view());
      claims_.fault(
          FindingCode::VerifiedStruct, name, none ? Standing::Missing : Standing::BadSignature,
          none ? fmt::format("{} has no verified-boot struct{}: a loader stops there.", name,
                             is_vbmeta(name) ? "" : " and no footer that leads to one")
               : fmt::format("A loader does not accept the struct of {}: {}.", name,
                             accepted.error().message),
          true, true);
      return {};
    }
    WEXLO_TRY(const Image vbmeta, parse_vbmeta(bytes));
    one.found = true;
    one.size = kHeader + vbmeta.number("authentication_data_block_size") +
               vbmeta.number("auxiliary_data_block_size");
    loaded_.push_back(bytes.part(0, static_cast<std::size_t>(one.size)));
    if (index == 0) top_sha512_ = vbmeta.number("algorithm_type") >= 4;
    judge_struct(one, vbmeta, expected);
    return follow(index, vbmeta);
  }

  void judge_struct(ChainStruct& one, const Image& vbmeta, const Bytes* expected) {
    const std::string& name = one.partition;
    claims_.stand(name, Standing::Ok);
    one.algorithm = algorithm_name(vbmeta.number("algorithm_type"));
    one.rollback_index = vbmeta.number("rollback_index");
    one.flags = vbmeta.number("flags");
    one.signature = signature_state(vbmeta);
    const View key = public_key_of(vbmeta);
    if (!key.empty()) one.key_sha256 = sha256_hex(key);
    judge_signature(one);
    const Bytes& root = options_.root_key;
    const Bytes* right = expected != nullptr ? expected : root.empty() ? nullptr : &root;
    if (right != nullptr && one.signature != SignatureState::None) {
      one.key_expected = equal(key, *right);
      if (!*one.key_expected)
        claims_.fault(
            FindingCode::Signature, name, Standing::WrongKey,
            fmt::format("{} is signed with key {}, {} is {}.", name, short_digest(one.key_sha256),
                        expected != nullptr ? "the key that the chain names"
                                            : "the key that the phone trusts",
                        short_digest(sha256_hex(*right))));
    }
    const auto minor = vbmeta.number("required_version_minor");
    if (minor > kOldMinor)
      claims_.fault(FindingCode::VerifiedStruct, name, Standing::Ok,
                    fmt::format("{} asks for a reader of version 1.{}: older loaders stop there.",
                                name, minor),
                    false);
    if (one.parent >= 0 && one.flags != 0)
      claims_.fault(
          FindingCode::ChainFlags, name, Standing::BadSignature,
          fmt::format("The chained struct of {} has flags {}: they belong into the top-level "
                      "struct, and stop an unlocked phone too.",
                      name, one.flags),
          true, true);
    judge_rollback(one, vbmeta);
  }

  void judge_signature(const ChainStruct& one) {
    switch (one.signature) {
      case SignatureState::Holds: return;
      case SignatureState::None:
        return claims_.fault(FindingCode::Signature, one.partition, Standing::Unsigned,
                             fmt::format("The struct of {} is not signed.", one.partition));
      case SignatureState::Stale:
        return claims_.fault(
            FindingCode::Signature, one.partition, Standing::BadSignature,
            fmt::format("The struct of {} was changed after it was signed.", one.partition));
      default:
        return claims_.fault(
            FindingCode::Signature, one.partition, Standing::BadSignature,
            fmt::format("The signature of {} does not hold with its own key.", one.partition));
    }
  }

  void judge_rollback(const ChainStruct& one, const Image& vbmeta) {
    std::uint32_t location = one.location;
    // Newer top-level structs may name another place than 0.
    if (one.parent < 0 && vbmeta.number("required_version_minor") >= 2)
      location = load<std::uint32_t, std::endian::big>(vbmeta.header().data() + 124);
    const auto stored = options_.rollback.find(location);
    if (stored == options_.rollback.end() || one.rollback_index >= stored->second) return;
    claims_.fault(
        FindingCode::RollbackIndex, one.partition, Standing::Rollback,
        fmt::format("Rollback index {} of {} is lower than {}, which the phone has stored at "
                    "location {}.",
                    one.rollback_index, one.partition, stored->second, location));
  }

  Status follow(int index, const Image& vbmeta) {
    const std::string name = out_.structs[index].partition;
    const bool top = out_.structs[index].parent < 0;
    if (top) {
      out_.hashtrees_disabled = (out_.structs[index].flags & HashtreeDisabled) != 0;
      out_.verification_disabled = (out_.structs[index].flags & VerificationDisabled) != 0;
    }
    const auto all = descriptors_for_loaders(vbmeta);
    if (!all) {
      // With verification disabled no loader reads as far as that.
      const bool read = !out_.verification_disabled;
      claims_.fault(
          FindingCode::VerifiedStruct, name, read ? Standing::BadSignature : Standing::Ok,
          fmt::format("The descriptors of {} do not read: {}.", name, all.error().message), read,
          read);
      return {};
    }
    for (const Descriptor& one : *all) {
      WEXLO_CHECK(check_stop(context_));
      if (const auto* property = std::get_if<PropertyDescriptor>(&one.value))
        out_.structs[index].properties.emplace_back(property->key, property->value);
      else if (const auto* hash = std::get_if<HashDescriptor>(&one.value))
        WEXLO_CHECK(judge_hash(index, *hash));
      else if (const auto* tree = std::get_if<HashtreeDescriptor>(&one.value))
        WEXLO_CHECK(judge_tree(index, *tree));
      else if (const auto* chain = std::get_if<ChainDescriptor>(&one.value))
        WEXLO_CHECK(judge_chain(index, *chain));
      else if (const auto* line = std::get_if<CmdlineDescriptor>(&one.value))
        judge_cmdline(index, *line);
    }
    return {};
  }

  /// Names that loaders have room for, and take for text.
  bool name_fits(const std::string& partition, int index) {
    const bool fits = partition.size() + options_.suffix.size() <= kMaxName;
    if (fits && is_utf8(partition)) return true;
    claims_.fault(
        FindingCode::VerifiedStruct, out_.structs[index].partition, Standing::BadSignature,
        fits ? "A descriptor names a partition with letters that are no UTF-8: a loader stops "
               "there."
             : fmt::format("A descriptor names a partition with {} letters: a loader stops there.",
                           partition.size()),
        true, true);
    return false;
  }

  void add(int index, Claim claim) { out_.structs[index].claims.push_back(std::move(claim)); }

  Status judge_hash(int index, const HashDescriptor& hash) {
    Claim claim{.kind = ClaimKind::Hash,
                .partition = hash.partition,
                .image_size = hash.image_size,
                .algorithm = hash.hash_algorithm};
    if (out_.verification_disabled) {
      claim.standing = Standing::Disabled;
      claims_.stand(claim.partition, Standing::Disabled);
    } else if (name_fits(hash.partition, index)) {
      WEXLO_TRY(const SourcePtr partition, find(hash.partition, (hash.flags & kNoSlot) == 0));
      WEXLO_CHECK(claims_.hash(claim, hash, partition, out_.structs[index].partition));
    }
    add(index, std::move(claim));
    return {};
  }

  void judge_cmdline(int index, const CmdlineDescriptor& line) {
    if (is_utf8(line.text) || out_.verification_disabled) return;
    const std::string& name = out_.structs[index].partition;
    claims_.fault(FindingCode::VerifiedStruct, name, Standing::BadSignature,
                  fmt::format("A command line in {} is no UTF-8: a loader stops there.", name),
                  true, true);
  }

  Status judge_tree(int index, const HashtreeDescriptor& tree) {
    Claim claim{.kind = ClaimKind::Hashtree,
                .partition = tree.partition,
                .image_size = tree.image_size,
                .algorithm = tree.hash_algorithm};
    if (out_.verification_disabled || out_.hashtrees_disabled) {
      claim.standing = Standing::Disabled;
      claims_.stand(claim.partition, Standing::Disabled);
    } else if (name_fits(tree.partition, index)) {
      WEXLO_TRY(const SourcePtr partition, find(tree.partition, (tree.flags & kNoSlot) == 0));
      if (partition == nullptr)
        claims_.missing(claim);
      else if (options_.look == Look::Trees || options_.trees.contains(tree.partition))
        WEXLO_CHECK(claims_.tree(claim, tree, *partition));
    }
    add(index, std::move(claim));
    return {};
  }

  Status judge_chain(int index, const ChainDescriptor& chain) {
    Claim claim{.kind = ClaimKind::Chain, .partition = chain.partition};
    if (out_.verification_disabled) {
      claim.standing = Standing::Disabled;
      claims_.stand(chain.partition, Standing::Disabled);
      add(index, std::move(claim));
      return {};
    }
    const std::string& name = out_.structs[index].partition;
    std::string wrong;
    if (out_.structs[index].parent >= 0)
      wrong = fmt::format("{} is chained itself, and chains {} on", name, chain.partition);
    else if (chain.rollback_index_location == 0 || chain.rollback_index_location >= kLocations)
      wrong = fmt::format("{} gives {} the rollback location {}", name, chain.partition,
                          chain.rollback_index_location);
    else if (out_.structs.size() >= kMaxStructs)
      wrong = fmt::format("{} chains more than {} partitions", name, kMaxStructs - 1);
    if (!wrong.empty()) {
      claims_.fault(FindingCode::VerifiedStruct, name, Standing::BadSignature,
                    wrong + ": a loader stops there.", true, true);
      add(index, std::move(claim));
      return {};
    }
    add(index, std::move(claim));
    if (!name_fits(chain.partition, index)) return {};
    WEXLO_TRY(const SourcePtr partition, find(chain.partition, true));
    return read_struct(chain.partition, partition, index, chain.rollback_index_location,
                       &chain.public_key);
  }

  Status finish_digest() {
    if (loaded_.empty() || !digest_known_) return {};
    Hasher hasher(top_sha512_ ? DigestKind::Sha512 : DigestKind::Sha256);
    for (const Blob& one : loaded_) {
      hasher.update(one.view());
      out_.digest_size += one.size();
    }
    out_.digest = hex(hasher.finish());
    out_.digest_algorithm = top_sha512_ ? "sha512" : "sha256";
    return {};
  }

  const WalkOptions& options_;
  const Context& context_;
  std::vector<Blob> loaded_;
  bool top_sha512_ = false, digest_known_ = true;
  Walk out_;
  ClaimJudge claims_{options_, context_, out_};
};

}  // namespace

Result<Walk> walk_chain(const WalkOptions& options, const Context& context) {
  return Walker(options, context).run();
}

}  // namespace wexlo::verified
