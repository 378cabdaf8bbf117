#include "job/own_footer.hpp"

#include "verified/draft.hpp"

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
    out.vouches = out.vouches || (!name.empty() && name != one.partition);
  }
  return out;
}

}  // namespace wexlo
