#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/digest.hpp"
#include "image/tail.hpp"
#include "judge/phone_set.hpp"
#include "seal/sealer.hpp"

/// The part of a Sealer that writes vbmeta structs: of given vbmeta images, and of a new one.
namespace wexlo {

using verified::ChainDescriptor;
using verified::Descriptor;
using verified::Draft;
using verified::HashDescriptor;
using verified::HashtreeDescriptor;

namespace {

/// The struct as it stands in the output is the one that was meant, and its own hash matches.
Status read_back(ImageSink& sink, View meant, const std::string& partition) {
  if (auto written = check_written(sink, 0, meant); !written)
    return fail(in_file(std::move(written).error(), partition));
  const auto image = verified::parse_vbmeta(Blob(to_bytes(meant)));
  if (image && verified::own_hash_matches(*image).value_or(true)) return {};
  return fail({.code = ErrorCode::Unexplained,
               .message = "the struct that was written is not valid",
               .file = partition,
               .expected = "a struct that reads, and whose own hash matches",
               .found = image ? "another hash" : describe(image.error()),
               .hint = "Nothing was written. This is a fault of Wexlo: please report it."});
}

}  // namespace

Result<Image> Sealer::read_struct(const Source& source) {
  WEXLO_TRY(Bytes bytes, read_some(source, 0, verified::kMaxVbmeta));
  auto image = verified::parse_vbmeta(Blob(std::move(bytes)));
  if (!image) return fail(in_file(std::move(image).error(), source.name()));
  return image;
}

Status Sealer::apply_values(Draft& draft, const std::string& partition, SealedImage& sealed) const {
  const auto mine = [&](const auto& one) {
    return one.partition == partition || one.partition.empty();
  };
  for (const auto& one : options_.rollback)
    if (mine(one)) {
      std::uint64_t value = 0;
      const auto end = one.value.data() + one.value.size();
      const auto [at, bad] = std::from_chars(one.value.data(), end, value);
      if (bad != std::errc() || at != end)
        return usage(fmt::format("\"{}\" is no rollback index", one.value),
                     "It is a number from 0 to 2^64 - 1.");
      draft.set_rollback_index(value);
      sealed.done.push_back(fmt::format("rollback index {}", value));
    }
  std::optional<std::uint32_t> flags;
  for (const auto& one : options_.flags)
    if (mine(one)) {
      const auto bit = verified::flag_named(one.value);
      if (!bit && one.value != "none")
        return usage(fmt::format("\"{}\" is no flag", one.value),
                     "Flags are hashtree-disabled, verification-disabled, and none.");
      flags = flags.value_or(0) | bit.value_or(0);
    }
  if (flags) {
    draft.set_flags(*flags);
    sealed.done.push_back(fmt::format("flags {}", *flags));
  }
  for (const auto& one : options_.properties)
    if (mine(one)) {
      draft.set_property(one.key, one.value);
      sealed.done.push_back(fmt::format("property {} = {}", one.key, one.value));
    }
  return {};
}

void Sealer::finish(SealedImage sealed, const verified::Signer* signer, DigestKind digest) {
  sealed.algorithm = "none";
  if (signer != nullptr) {
    const auto algorithm = verified::algorithm_for(digest, signer->bits());
    sealed.algorithm = verified::algorithm_name(algorithm ? algorithm->id : 0);
    sealed.public_key_sha256 = sha256_hex(signer->public_key());
    sealed.done.push_back(
        fmt::format("signed {}, key {}", sealed.algorithm, short_digest(sealed.public_key_sha256)));
  }
  out_.images.push_back(std::move(sealed));
}

void Sealer::unsigned_now(const std::string& partition) {
  note(Level::Warning, FindingCode::NowUnsigned,
       "It was signed, and there is no key to sign it again: it is unsigned now, which an "
       "unlocked phone passes over.",
       partition);
}

/// Claims of what was sealed before take the place of the stock ones.
bool Sealer::take_offers(Draft& draft, SealedImage& sealed, const std::string& partition) {
  bool changed = false;
  for (const Descriptor& one : draft.parsed()) {
    const std::string name(verified::partition_of(one));
    const auto offer = std::ranges::find(offers_, name, &Offer::partition);
    if (name.empty() || offer == offers_.end()) continue;
    if (const auto* chain = std::get_if<ChainDescriptor>(&one.value)) {
      if (!offer->is_signed) {
        note(Level::Warning, FindingCode::ChainUnsigned,
             fmt::format("{} chains {}, which is not signed with the given key.", partition, name),
             partition);
        continue;
      }
      ChainDescriptor fresh = *chain;
      fresh.public_key = options_.signer->public_key();
      if (draft.set_claim(fresh)) {
        changed = true;
        sealed.done.push_back(fmt::format("chains {} with the new key", name));
      }
      continue;
    }
    if (!offer->claim) continue;
    FooterClaim claim = *offer->claim;
    // Whether the name gets a slot suffix is for the holder to say.
    if (auto* hash = std::get_if<HashDescriptor>(&claim))
      if (const auto* old = std::get_if<HashDescriptor>(&one.value)) hash->flags = old->flags;
    if (auto* tree = std::get_if<HashtreeDescriptor>(&claim))
      if (const auto* old = std::get_if<HashtreeDescriptor>(&one.value)) tree->flags = old->flags;
    if (draft.set_claim(claim)) {
      changed = true;
      sealed.done.push_back(fmt::format("digest of {}", name));
    }
  }
  return changed;
}

/// Claims of images that are given for that alone, and chains.
Status Sealer::add_includes(Draft& draft, SealedImage& sealed) {
  for (const std::string& path : options_.includes) {
    PhoneSet set;
    WEXLO_CHECK(set.add_image(path, "", context_));
    WEXLO_TRY(const SourcePtr source, set.source(set.members().front(), context_));
    auto state = footer_state(*source);
    if (!state) return fail(in_file(std::move(state).error(), path));
    if (!state->draft)
      return fail({.code = ErrorCode::NoMatch,
                   .message = "the image has no footer, so there is nothing to include",
                   .file = path,
                   .hint = "Seal it first: wexlo seal IMAGE --partition-size SIZE."});
    const auto parsed = state->draft->parsed();
    for (std::size_t i = 0; i < parsed.size(); ++i) {
      if (const auto* property = std::get_if<verified::PropertyDescriptor>(&parsed[i].value))
        draft.set_property(property->key, property->value);
      else if (!verified::partition_of(parsed[i]).empty())
        draft.set_claim(parsed[i].value);
      else
        draft.descriptors.push_back(state->draft->descriptors[i]);
    }
    sealed.done.push_back(fmt::format("what {} says of itself", set.members().front().name));
  }
  for (const auto& chain : options_.chains) {
    draft.set_claim(ChainDescriptor{chain.partition, chain.location, chain.key});
    sealed.done.push_back(fmt::format("chains {} at location {}", chain.partition, chain.location));
  }
  return {};
}

/// What a maker keeps behind the struct stays where it stands; where the new struct would lie over
/// it, or the partition ends before it, that is refused rather than lost.
Status Sealer::keep_behind(const Stock& before, std::uint64_t struct_size, std::uint64_t size,
                           ImageSink& sink) const {
  constexpr std::uint64_t kPiece = 1u << 20;
  const Source& source = *before.source;
  const std::uint64_t end = before.image->sections_end();
  for (std::uint64_t at = end; at < source.size(); at += kPiece) {
    WEXLO_CHECK(check_stop(context_));
    WEXLO_TRY(const Bytes piece, read_some(source, at, kPiece));
    if (all_bytes(piece, std::byte{0})) continue;
    if (end < struct_size || at + piece.size() > size)
      return fail({.code = ErrorCode::DoesNotFit,
                   .message = "bytes behind the vbmeta struct would be lost",
                   .file = source.name(),
                   .offset = at,
                   .expected = fmt::format("a struct of at most {} bytes, a partition of at least "
                                           "{} bytes",
                                           end, at + piece.size()),
                   .found = fmt::format("{} and {} bytes", struct_size, size),
                   .hint = "Nobody but the maker knows what they are: keep the struct as small as "
                           "it was, or start from an image without them."});
    WEXLO_CHECK(sink.write_at(at, piece));
  }
  return {};
}

Status Sealer::write_struct_image(const Draft& draft, std::uint64_t old_size, const Stock* before,
                                  const std::string& partition, SealedImage sealed) {
  const verified::Signer* signer = options_.signer.get();
  const DigestKind digest = signing_digest(
      before == nullptr ? DigestKind::Sha256 : verified::signed_digest(*before->image));
  WEXLO_TRY(const Bytes bytes, verified::write_struct(draft, signer, digest));
  const auto asked = size_of(partition);
  const std::uint64_t size = asked.value_or(std::max(old_size, align_up(bytes.size(), kBlock)));
  if (bytes.size() > size)
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = fmt::format("the struct of {} is {} bytes too large for its partition",
                                        partition, bytes.size() - size),
                 .expected = fmt::format("at most {} bytes", size),
                 .found = fmt::format("{} bytes", bytes.size())});
  WEXLO_TRY(ImageSink* const sink, open_(partition));
  WEXLO_CHECK(sink->resize(size));
  WEXLO_CHECK(sink->write_at(0, bytes));
  if (before != nullptr) {
    WEXLO_CHECK(keep_behind(*before, bytes.size(), size, *sink));
    WEXLO_CHECK(renew_sealed_block(*before->source, before->image->sections_end(), size, *sink));
  }
  WEXLO_CHECK(read_back(*sink, bytes, partition));
  sealed.size = size;
  WEXLO_TRY(sealed.sha256, digest_of(*sink, size, context_));
  offers_.push_back({partition, std::nullopt, {}, signer != nullptr});
  finish(std::move(sealed), signer, digest);
  return {};
}

Status Sealer::reseal(const SealInput& input) {
  SealedImage sealed{.partition = input.partition};
  WEXLO_TRY(const Image before, read_struct(*input.source));
  WEXLO_TRY(Draft draft, verified::draft_of(before));
  take_offers(draft, sealed, input.partition);
  if (is_top(input.partition) && options_.new_vbmeta.empty())
    WEXLO_CHECK(add_includes(draft, sealed));
  WEXLO_CHECK(apply_values(draft, input.partition, sealed));
  if (options_.signer == nullptr && before.number("algorithm_type") != 0)
    unsigned_now(input.partition);
  const Stock stock{&before, input.source.get()};
  return write_struct_image(draft, input.source->size(), &stock, input.partition,
                            std::move(sealed));
}

Status Sealer::make_vbmeta() {
  SealedImage sealed{.partition = options_.new_vbmeta};
  Draft draft = verified::new_draft();
  for (const Offer& offer : offers_) {
    for (const Bytes& one : offer.beside)
      draft.descriptors.push_back(one);
    if (chained_.contains(offer.partition)) continue;
    if (!offer.claim) continue;
    draft.set_claim(*offer.claim);
    sealed.done.push_back(fmt::format("digest of {}", offer.partition));
  }
  WEXLO_CHECK(add_includes(draft, sealed));
  WEXLO_CHECK(apply_values(draft, options_.new_vbmeta, sealed));
  return write_struct_image(draft, 0, nullptr, options_.new_vbmeta, std::move(sealed));
}

}  // namespace wexlo
