#include "check/verdict.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/digest.hpp"

namespace wexlo {

std::string_view checked_name(CheckedKind kind) {
  constexpr std::array<std::string_view, 3> kNames{"image", "set", "kit"};
  return kNames[static_cast<std::size_t>(kind)];
}

std::string standing_detail(const verified::Walk& walk, const std::string& partition) {
  for (const verified::ChainStruct& one : walk.structs) {
    for (const verified::Claim& claim : one.claims) {
      if (claim.partition != partition || claim.kind == verified::ClaimKind::Chain) continue;
      if (!claim.detail.empty()) return claim.detail;
      return fmt::format("{} in {}", claim_kind_about(claim.kind), one.partition);
    }
    if (one.partition == partition && one.found)
      return one.algorithm == "none"
                 ? "not signed"
                 : fmt::format("{}, key {}", one.algorithm, short_digest(one.key_sha256));
  }
  return "";
}

void judge_by_chain(Checked& out) {
  const verified::Walk& walk = out.walk;
  const verified::ChainStruct& top = walk.structs.front();
  out.locked.outlook = walk.locked();
  out.unlocked.outlook = walk.unlocked();
  if (!out.locked.starts()) {
    out.locked.sentence =
        fmt::format("A locked phone stops at power-on: {}", walk.first_stop(true)->message);
  } else {
    const std::string whose = out.root == RootKey::Given ? "the key that was given"
                              : out.root == RootKey::Stock
                                  ? "the stock firmware's key"
                                  : "its own key, if that is the one the phone trusts";
    out.locked.sentence =
        walk.verification_disabled
            ? fmt::format(
                  "A locked phone starts it, signed with {}, and looks at nothing: its "
                  "flags switch verification off.",
                  whose)
            : fmt::format(
                  "A locked phone starts it: all that is here is valid, and signed with "
                  "{} ({}).",
                  whose, short_digest(top.key_sha256));
  }
  const verified::Fault* passed = walk.first_stop(true);
  if (!out.unlocked.starts())
    out.unlocked.sentence = fmt::format("Even an unlocked phone stops at power-on: {}",
                                        walk.first_stop(false)->message);
  else if (passed != nullptr)
    out.unlocked.sentence =
        fmt::format("An unlocked phone shows its warning and goes on: {}", passed->message);
  else
    out.unlocked.sentence = "An unlocked phone shows its warning and starts it.";
}

void judge_without_chain(const WithoutChain& seen, Checked& out) {
  out.unlocked = {verified::Outlook::Starts,
                  "An unlocked phone shows its warning and starts it, as far as verified "
                  "boot goes."};
  // Without the struct that all hangs from, a stock image's start is as likely as its siblings.
  out.locked.outlook =
      seen.stock && !seen.wrong ? verified::Outlook::CannotTell : verified::Outlook::Refuses;
  if (seen.wrong)
    out.locked.sentence =
        "A locked phone stops at power-on: the image is not the one that its digest is of.";
  else if (!seen.stock)
    out.locked.sentence =
        "A locked phone stops at power-on: the image is changed, and nothing "
        "here is signed for it.";
  else if (seen.footers)
    out.locked.sentence =
        "A locked phone starts it if its vbmeta is of the same build: the "
        "image is what its own footer says.";
  else
    out.locked.sentence =
        "Nothing here is under verified boot: what the phone's loader looks "
        "at by itself is not known.";
}

void judge_coming_up(const std::vector<Finding>& found, const std::vector<std::string>& unknown,
                     Checked& out) {
  for (const Finding& one : found) {
    const bool of_chain = std::ranges::any_of(
        out.walk.faults, [&](const auto& fault) { return fault.message == one.message; });
    if (one.level != Level::Problem || kind_of(one.id.code).locked_only || of_chain) continue;
    if (std::exchange(out.startable, false))
      for (Verdict* verdict : {&out.locked, &out.unlocked})
        if (verdict->outlook != verified::Outlook::Refuses)
          *verdict = {verified::Outlook::Refuses,
                      fmt::format("It does not start: {}", one.message)};
  }
  if (unknown.empty()) return;
  for (Verdict* verdict : {&out.locked, &out.unlocked})
    if (verdict->outlook == verified::Outlook::Starts)
      *verdict = {verified::Outlook::CannotTell,
                  fmt::format("Whether it starts cannot be told from what is here: {}.",
                              fmt::join(unknown, "; "))};
}

void judge_for_unlocked(Checked& out) {
  for (Finding& one : out.findings)
    if (one.level == Level::Problem && one.id.code != FindingCode::KitFile &&
        kind_of(one.id.code).locked_only)
      one.level = Level::Warning;
}

}  // namespace wexlo
