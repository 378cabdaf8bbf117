#include "kit/verdict/stock_judge.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/contains.hpp"
#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "judge/image_origin.hpp"
#include "judge/phone_set.hpp"

namespace wexlo {

Result<std::vector<Finding>> judge_origins(const KitImages& images, StockImages& stock,
                                           const Origins& known, bool strict,
                                           const Context& context) {
  std::vector<Finding> out;
  for (const KitImage& one : images) {
    if (!one.written) continue;
    WEXLO_TRY(const LoadedImage* const twin, stock.get(one.partition, context));
    if (twin == nullptr) continue;
    ImageOrigin judged;
    if (const auto at = known.find(one.partition); at != known.end()) {
      judged = at->second;
    } else {
      WEXLO_TRY(judged, origin_of(*twin, {}, context));
    }
    if (judged.origin.word == OriginWord::Journaled)
      out.push_back({Level::Problem,
                     {FindingCode::Patched, one.partition},
                     fmt::format("The firmware's {} is no stock image: {}. wexlo restore gives the "
                                 "stock image again.",
                                 one.partition, judged.origin.reason),
                     one.partition});
    if (judged.origin.word == OriginWord::Altered && strict)
      out.push_back({Level::Problem,
                     {FindingCode::Altered, one.partition},
                     fmt::format("The firmware's {} was changed by another tool: {}.",
                                 one.partition, fmt::join(judged.foreign, "; ")),
                     one.partition});
  }
  return out;
}

Result<std::vector<Finding>> judge_covered(const KitImages& images, StockImages& stock,
                                           const std::vector<Finding>& known, bool lenient,
                                           const Context& context) {
  PhoneSet set;
  for (const PartitionFacts& one : stock.firmware().partitions) {
    const std::string name(without_slot(one.name));
    if (!is_vbmeta(name) || one.size == 0) continue;
    const auto image = stock.get(name, context);
    if (!image && is_of_this_run(image.error().code)) return fail(image.error());
    // Where there are two of it, which one is meant was not asked.
    if (image && *image != nullptr) set.add(name, (*image)->bytes);
  }
  for (const KitImage& one : images) {
    if (!one.written || is_vbmeta(one.partition)) continue;
    WEXLO_TRY(const LoadedImage* const twin, stock.get(one.partition, context));
    if (twin != nullptr) set.add(one.partition, twin->bytes);
  }
  std::vector<Finding> out;
  WEXLO_TRY(const verified::Walk walk, walk_set(set, {.find = {}, .whole = false}, context));
  for (const verified::ChainStruct& at : walk.structs)
    for (const verified::Claim& claim : at.claims) {
      if (claim.standing != verified::Standing::DigestMismatch ||
          contains(known, FindingId(FindingCode::Patched, claim.partition), &Finding::id))
        continue;
      // Nothing stands behind a struct without a signature: it may be a leftover itself.
      const bool is_signed = at.signature == verified::SignatureState::Holds;
      out.push_back({is_signed && !lenient ? Level::Problem : Level::Warning,
                     {FindingCode::NotCovered, claim.partition},
                     fmt::format("The {}struct in {} covers another {} than the firmware has: it "
                                 "is of another build, or was changed after that struct was made.",
                                 is_signed ? "signed " : "", at.held_by, claim.partition),
                     claim.partition});
    }
  return out;
}

std::vector<Finding> judge_same_build(const KitImages& images, StockImages& stock,
                                      const std::map<std::string, std::string>& before) {
  std::vector<Finding> out;
  for (const KitImage& one : images) {
    const auto known = before.find(one.partition);
    const auto own = stock.read().find(one.partition);
    if (known == before.end() || own == stock.read().end()) continue;
    const std::string& sha256 = stock.sha256(one.partition);
    if (sha256 == known->second) continue;
    out.push_back(
        {Level::Problem,
         {FindingCode::Another, one.partition},
         fmt::format("{} is not the one that the older kit was made of, and both are said "
                     "to be of the build {}: SHA-256 {} there, {} here.",
                     one.partition, stock.firmware().build.fingerprint, short_digest(known->second),
                     short_digest(sha256)),
         one.partition});
  }
  return out;
}

}  // namespace wexlo
