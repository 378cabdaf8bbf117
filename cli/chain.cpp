#include "chain.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/digest.hpp"
#include "text/text.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::cli {
namespace {

using verified::ChainStruct;
using verified::Claim;
using verified::SignatureState;
using verified::Standing;

std::string_view signature_word(SignatureState state) {
  switch (state) {
    case SignatureState::Holds: return "holds";
    case SignatureState::None: return "none";
    case SignatureState::Stale: return "stale";
    case SignatureState::Bad: return "bad";
    default: return "unknown";
  }
}

Json tree_json(const verified::TreeCheck& tree) {
  Json first = tree.first.empty() ? Json()
                                  : Json{{"level", tree.first.front().level},
                                         {"block", tree.first.front().block},
                                         {"offset", tree.first.front().offset}};
  return {{"holds", tree.holds()}, {"bad_blocks", tree.bad_blocks}, {"first", first}};
}

Json claim_json(const Claim& claim) {
  return {{"kind", claim_kind_name(claim.kind)},
          {"partition", claim.partition},
          {"size", claim.image_size},
          {"algorithm", claim.algorithm.empty() ? Json() : Json(claim.algorithm)},
          {"status", verified::standing_name(claim.standing)},
          {"looked_at", claim.looked},
          {"detail", claim.detail.empty() ? Json() : Json(claim.detail)},
          {"tree", claim.tree ? tree_json(*claim.tree) : Json()}};
}

/// Draws the structs and their claims, one a line.
class Drawing {
 public:
  Drawing(const verified::Walk& walk, const Session& session) : walk_(walk), session_(session) {}

  std::string text() {
    if (walk_.structs.empty()) return {};
    row("", name_of(walk_.structs.front()), about(walk_.structs.front()),
        state(walk_.structs.front()));
    below(0, "");
    return table_.text(session_.paint);
  }

 private:
  void row(const std::string& lead, const std::string& name, const std::string& about,
           const std::string& state) {
    // Where the row goes on over lines, the branch below it does, too.
    std::string below = lead;
    if (const std::size_t end = below.find("├─ "); end != below.npos)
      below.replace(end, below.size(), "│");
    if (const std::size_t end = below.find("└─ "); end != below.npos) below.erase(end);
    table_.row({lead + printable(name), printable(about), state}, below);
  }

  static std::string name_of(const ChainStruct& one) {
    return one.in_footer ? one.partition + " (footer)" : one.partition;
  }

  std::string key(const std::string& sha256) const {
    return session_.globals.verbose ? sha256 : short_digest(sha256);
  }

  std::string about(const ChainStruct& one) const {
    if (!one.found)
      return one.parent < 0 ? "no struct" : fmt::format("chained at location {}", one.location);
    std::string out;
    if (one.parent >= 0) out = fmt::format("chained at location {}, ", one.location);
    out += one.signature == SignatureState::None ? "not signed" : "signed " + one.algorithm;
    if (!one.key_sha256.empty()) out += ", key " + key(one.key_sha256);
    out += fmt::format(", rollback {}", one.rollback_index);
    if (one.flags != 0)
      out += fmt::format(", flags {}", fmt::join(verified::flag_names(one.flags), " "));
    return out;
  }

  std::string state(const ChainStruct& one) const {
    const Paint& paint = session_.paint;
    if (!one.found && walk_.digest.empty()) return paint.faint("not available");
    if (!one.found) return paint.bad("missing");
    switch (one.signature) {
      case SignatureState::Holds: break;
      case SignatureState::None: return paint.warning("unsigned");
      case SignatureState::Stale: return paint.bad("changed after signing");
      default: return paint.bad("signature not valid");
    }
    if (one.key_expected == false) return paint.bad("signed with another key");
    const auto at = walk_.standings.find(one.partition);
    if (at != walk_.standings.end() && at->second == Standing::Rollback)
      return paint.bad("rollback index too low");
    return paint.good("valid");
  }

  std::string state(const Claim& claim) const {
    const Paint& paint = session_.paint;
    if (claim.standing == Standing::Missing) return paint.faint("not available");
    if (claim.standing == Standing::Disabled) return paint.warning("switched off");
    if (claim.standing != Standing::Ok) return paint.bad("not valid");
    return claim.looked ? paint.good("valid") : paint.faint("not looked at");
  }

  void below(std::size_t index, const std::string& lead) {
    const auto& claims = walk_.structs[index].claims;
    std::size_t next = index + 1;  // chained structs follow in the order of their claims
    for (std::size_t i = 0; i < claims.size(); ++i) {
      const bool last = i + 1 == claims.size();
      const std::string branch = lead + (last ? "└─ " : "├─ ");
      const Claim& claim = claims[i];
      if (claim.kind != verified::ClaimKind::Chain) {
        row(branch, claim.partition,
            fmt::format("{} {}, {}", claim_kind_about(claim.kind), claim.algorithm,
                        human_size(claim.image_size)),
            state(claim));
        continue;
      }
      while (next < walk_.structs.size() &&
             (walk_.structs[next].parent != static_cast<int>(index) ||
              walk_.structs[next].partition != claim.partition))
        ++next;
      if (next == walk_.structs.size()) {
        row(branch, claim.partition, "chained", state(claim));
        next = index + 1;
        continue;
      }
      row(branch, name_of(walk_.structs[next]), about(walk_.structs[next]),
          state(walk_.structs[next]));
      below(next, lead + (last ? "   " : "│  "));
      ++next;
    }
  }

  const verified::Walk& walk_;
  const Session& session_;
  Table table_{{"", "", ""}};
};

}  // namespace

Json chain_json(const verified::Walk& walk) {
  Json out = Json::array();
  for (const ChainStruct& one : walk.structs) {
    Json claims = Json::array();
    for (const Claim& claim : one.claims)
      claims.push_back(claim_json(claim));
    out.push_back(
        {{"partition", one.partition},
         {"found", one.found},
         {"in_footer", one.in_footer},
         {"chained_by", one.parent < 0
                            ? Json()
                            : Json(walk.structs[static_cast<std::size_t>(one.parent)].partition)},
         {"rollback_index_location", one.location},
         {"offset", one.offset},
         {"size", one.size},
         {"algorithm", one.algorithm},
         {"signature", signature_word(one.signature)},
         {"public_key_sha256", one.key_sha256.empty() ? Json() : Json(one.key_sha256)},
         {"key_expected", one.key_expected ? Json(*one.key_expected) : Json()},
         {"rollback_index", one.rollback_index},
         {"flags", one.flags},
         {"covers", claims}});
  }
  return out;
}

std::string chain_text(const verified::Walk& walk, const Session& session) {
  return Drawing(walk, session).text();
}

}  // namespace wexlo::cli
