#include "verified/chain_claims.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "verified/hash_tree.hpp"

namespace wexlo::verified {
namespace {

/// The error is about what the partition holds, not about getting at it.
bool is_of_bytes(ErrorCode code) {
  return code == ErrorCode::OutOfRange || code == ErrorCode::BadValue ||
         code == ErrorCode::Unsupported;
}

}  // namespace

void ClaimJudge::fault(FindingCode code, const std::string& partition, Standing standing,
                       std::string message, bool locked, bool unlocked) {
  out_.faults.push_back({code, partition, std::move(message), locked, unlocked});
  stand(partition, standing);
}
void ClaimJudge::stand(const std::string& partition, Standing standing) {
  Standing& now = out_.standings.try_emplace(partition, standing).first->second;
  now = std::max(now, standing);
}

void ClaimJudge::blame(Claim& claim, FindingCode code, Standing standing, std::string message,
                       bool locked, bool unlocked) {
  claim.standing = std::max(claim.standing, standing);
  claim.detail = message;
  fault(code, claim.partition, standing, std::move(message), locked, unlocked);
}

void ClaimJudge::missing(Claim& claim) {
  claim.standing = Standing::Missing;
  claim.detail = "not available";
  stand(claim.partition, Standing::Missing);
}

Status ClaimJudge::hash(Claim& claim, const HashDescriptor& said, const SourcePtr& partition,
                        const std::string& holder) {
  // Loaders read no more of a descriptor when they do not want its partition.
  if (partition == nullptr) {
    missing(claim);
    return {};
  }
  const auto kind = hash_algorithm(said.hash_algorithm);
  if (!kind || *kind == DigestKind::Sha1) {
    blame(claim, FindingCode::VerifiedStruct, Standing::DigestMismatch,
          fmt::format("The digest of {} uses {}, which loaders do not know: they stop there.",
                      said.partition, said.hash_algorithm),
          true, true);
    return {};
  }
  if (!said.digest.empty() && said.digest.size() != digest_size(*kind)) {
    blame(claim, FindingCode::VerifiedStruct, Standing::DigestMismatch,
          fmt::format("The digest of {} has {} bytes where {} has {}: a loader stops there.",
                      said.partition, said.digest.size(), said.hash_algorithm, digest_size(*kind)),
          true, true);
    return {};
  }
  if (options_.look == Look::Structs) return {};
  if (said.digest.empty()) {
    claim.detail = "its digest is kept on the phone";
    stand(claim.partition, Standing::Ok);
    return {};
  }
  if (said.image_size > partition->size()) {
    blame(claim, FindingCode::ImageDigest, Standing::DigestMismatch,
          fmt::format("The descriptor of {} covers {} bytes, the image has {}.", said.partition,
                      said.image_size, partition->size()));
    return {};
  }
  WEXLO_TRY(const Bytes found,
            salted_digest(*partition, *kind, said.salt, said.image_size, context_));
  claim.looked = true;
  stand(claim.partition, Standing::Ok);
  if (!equal(found, said.digest))
    blame(claim, FindingCode::ImageDigest, Standing::DigestMismatch,
          fmt::format("{} is not the image that the digest in {} is of.", said.partition, holder));
  return {};
}

Status ClaimJudge::tree(Claim& claim, const HashtreeDescriptor& said, const Source& partition) {
  if (said.root_digest.empty()) {
    claim.detail = "its root digest is kept on the phone";
    return {};
  }
  auto found = check_tree(partition, said, context_);
  if (!found && is_of_bytes(found.error().code)) {
    blame(claim, FindingCode::SystemDigest, Standing::DigestMismatch,
          fmt::format("The hash tree of {} cannot be valid: {} ({}).", said.partition,
                      found.error().message, found.error().found));
    return {};
  }
  if (!found) return fail(std::move(found).error());
  claim.looked = true;
  stand(claim.partition, Standing::Ok);
  if (!found->holds()) {
    const BadBlock& first = found->first.front();
    blame(claim, FindingCode::SystemDigest, Standing::DigestMismatch,
          fmt::format("{}: {} of {} blocks differ from the hash tree, the first is {} {} at {}: "
                      "reads of them fail.",
                      said.partition, found->bad_blocks,
                      (said.image_size + said.data_block_size - 1) / said.data_block_size,
                      first.level == 0 ? "block" : "block of the tree", first.block,
                      hex_value(first.offset)));
    claim.tree = std::move(*found);
    return {};
  }
  claim.tree = std::move(*found);
  return said.fec_num_roots == 0 ? Status() : fec(claim, said, partition);
}

Status ClaimJudge::fec(Claim& claim, const HashtreeDescriptor& said, const Source& partition) {
  const auto found = check_fec(partition, said, context_);
  if (!found && !is_of_bytes(found.error().code)) return fail(found.error());
  if (found && found->wrong_blocks == 0) return {};
  const std::string why = found
                              ? fmt::format("{} blocks are not those of its data, the first at {}",
                                            found->wrong_blocks, hex_value(*found->first))
                              : found.error().message;
  fault(FindingCode::ErrorCorrection, claim.partition, Standing::Ok,
        fmt::format("The error correction codes of {}: {}. That does harm only once a block "
                    "goes bad.",
                    claim.partition, why),
        false);
  return {};
}

}  // namespace wexlo::verified
