#include "check/own_footer.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "base/error_kinds.hpp"
#include "firmware/top_struct.hpp"
#include "verified/draft.hpp"
#include "verified/tree_check.hpp"

namespace wexlo {

OwnFooter own_footer(const Subject& one) {
  OwnFooter out;
  if (!one.loaded) return out;
  const View bytes = one.loaded->bytes.view();
  const auto footer = verified::find_footer(bytes);
  if (!footer) {
    out = {.there = true, .reads = false};
    out.trouble = footer.error().message;
    return out;
  }
  if (!*footer) return out;
  out.there = true;
  const View raw = bytes.subspan((*footer)->vbmeta_offset, (*footer)->vbmeta_size);
  const auto digest = verified::own_digest_matches(bytes);
  const auto accepted = verified::loader_accepts(raw);
  if (!digest || !accepted) {
    out.reads = false;
    out.trouble = digest ? accepted.error().message : digest.error().message;
    return out;
  }
  out.digest = *digest;
  const auto vbmeta = verified::parse_vbmeta(Blob(to_bytes(raw)));
  const auto claims =
      vbmeta ? verified::descriptors(*vbmeta) : Result<std::vector<verified::Descriptor>>{};
  if (!vbmeta || !claims) return out;
  out.is_signed = vbmeta->number("algorithm_type") != 0;
  for (const verified::Descriptor& claim : *claims) {
    const auto name = verified::partition_of(claim);
    out.covers = out.covers || (!name.empty() && name != one.partition);
  }
  return out;
}

namespace {

using verified::HashDescriptor;
using verified::HashtreeDescriptor;

Status check_claim(const Source& source, const HashtreeDescriptor& tree, LoneFooter& out,
                   const Context& context) {
  const auto found = verified::check_tree(source, tree, context);
  if (!found && is_of_this_run(found.error().code)) return fail(found.error());
  if (!found)
    out.trouble = fmt::format("Its own hash tree cannot be valid: {}.", found.error().message);
  else if (!found->holds())
    out.trouble = fmt::format("{} of its blocks differ from its own hash tree.",
                              found->root_holds ? found->bad_blocks : tree.image_size / 4096);
  out.about = "its own hash tree is valid; no signed vbmeta covers it";
  return {};
}

Status check_claim(const Source& source, const HashDescriptor& hash, LoneFooter& out,
                   const Context& context) {
  const auto kind = verified::hash_algorithm(hash.hash_algorithm);
  if (!kind || hash.digest.empty() || hash.image_size > source.size()) return {};
  WEXLO_TRY(const Bytes found,
            verified::salted_digest(source, *kind, hash.salt, hash.image_size, context));
  if (!equal(found, hash.digest)) out.trouble = "Its own digest does not match its bytes.";
  out.about = "its own digest matches; no signed vbmeta covers it";
  return {};
}

}  // namespace

Bytes top_key(const Subjects& stock) {
  const auto loaded = [&](std::string_view partition) {
    const Subject* one = stock.find(partition);
    return one != nullptr && one->loaded ? &*one->loaded : nullptr;
  };
  const auto top = top_struct(loaded("vbmeta"), loaded("boot"));
  return top ? to_bytes(verified::public_key_of(top->vbmeta)) : Bytes{};
}

Result<LoneFooter> lone_footer(const Subject& one, bool trees, const Context& context) {
  LoneFooter out{.code = FindingCode::VerifiedStruct};
  const Source& source = *one.source;
  WEXLO_TRY(const auto footer, verified::read_footer(source));
  if (!footer) return out;
  out.there = true;
  out.about = "its footer was read, its tree was not looked at";
  const auto place = verified::find_struct(source, "boot");
  auto bytes = place && *place ? read_some(source, (*place)->offset, (*place)->size)
                               : Result<Bytes>(fail({.code = ErrorCode::Corrupt}));
  const auto vbmeta =
      bytes ? verified::parse_vbmeta(Blob(std::move(*bytes))) : Result<Image>(fail(bytes.error()));
  const auto all = vbmeta ? verified::descriptors(*vbmeta)
                          : Result<std::vector<verified::Descriptor>>(fail(vbmeta.error()));
  if (!all) {
    out.trouble = "Its own footer does not point to a valid vbmeta struct.";
    return out;
  }
  const auto signature = verified::signature_state(*vbmeta);
  if (signature == verified::SignatureState::Bad || signature == verified::SignatureState::Stale) {
    out.code = FindingCode::Signature;
    out.trouble = "The signature of its own struct is not valid.";
    return out;
  }
  out.code = FindingCode::SystemDigest;
  for (const verified::Descriptor& claim : *all) {
    if (!trees || !out.trouble.empty()) break;
    if (verified::partition_of(claim) != one.partition) continue;
    if (const auto* tree = std::get_if<HashtreeDescriptor>(&claim.value))
      WEXLO_CHECK(check_claim(source, *tree, out, context));
    if (const auto* hash = std::get_if<HashDescriptor>(&claim.value))
      WEXLO_CHECK(check_claim(source, *hash, out, context));
  }
  return out;
}

}  // namespace wexlo
