#include "seal/seal.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "judge/phone_set.hpp"
#include "seal/seal_older.hpp"
#include "seal/sealer.hpp"

namespace wexlo {

using verified::ChainDescriptor;
using verified::Descriptor;
using verified::Draft;

namespace {

constexpr unsigned kUsualRoots = 2;

std::string_view kind_word(FooterKind kind) {
  return kind == FooterKind::Hash ? "hash footer" : "hash tree footer";
}

}  // namespace

Result<Sealed> Sealer::run() {
  WEXLO_CHECK(check_names());
  for (const SealInput& one : images_)
    if (is_vbmeta(one.partition)) any_struct_ = true;
  WEXLO_CHECK(read_chained());
  for (const SealInput& one : images_)
    if (!is_vbmeta(one.partition)) WEXLO_CHECK(footed(one));
  // A struct that another one chains has to be signed before that one.
  for (const bool top : {false, true})
    for (const SealInput& one : images_)
      if (is_vbmeta(one.partition) && is_top(one.partition) == top) WEXLO_CHECK(reseal(one));
  if (!options_.new_vbmeta.empty()) WEXLO_CHECK(make_vbmeta());
  return std::move(out_);
}

Status Sealer::check_names() const {
  const auto known = [&](const std::string& name) {
    return (name.empty() && images_.size() + (options_.new_vbmeta.empty() ? 0 : 1) == 1) ||
           name == options_.new_vbmeta ||
           std::ranges::any_of(images_, [&](const auto& one) { return one.partition == name; });
  };
  for (const auto* list : {&options_.rollback, &options_.flags, &options_.properties})
    for (const auto& one : *list)
      if (!known(one.partition))
        return usage(one.partition.empty()
                         ? "with several images, a value has to say which one it is for"
                         : fmt::format("no image here is {}", one.partition),
                     "Write PARTITION= in front, e.g. vbmeta=0.");
  for (const auto& [name, ignored] : options_.sizes)
    if (!known(name) && !(name.empty() && images_.size() == 1))
      return usage(
          name.empty()
              ? "with several images, a size has to say which one it is for"
              : fmt::format("--partition-size is for {}, which is not among the images", name),
          "Write PARTITION=SIZE.");
  std::set<std::string> seen;
  for (const SealInput& one : images_)
    if (!seen.insert(one.partition).second || one.partition == options_.new_vbmeta)
      return usage(fmt::format("two images are for {}", one.partition),
                   "Give each with its partition's name: boot=FILE.");
  return {};
}

Status Sealer::read_chained() {
  for (const SealInput& one : images_) {
    if (!is_vbmeta(one.partition)) continue;
    WEXLO_TRY(const Image vbmeta, read_struct(*one.source));
    WEXLO_TRY(const auto all, verified::descriptors(vbmeta));
    for (const Descriptor& descriptor : all)
      if (const auto* chain = std::get_if<ChainDescriptor>(&descriptor.value))
        chained_.insert(chain->partition);
  }
  for (const auto& chain : options_.chains)
    chained_.insert(chain.partition);
  return {};
}

FooterWish Sealer::wish_for(const SealInput& input, const FooterState& state,
                            std::uint64_t size) const {
  FooterWish wish{.partition = input.partition, .partition_size = size};
  const bool had_tree = state.tree.has_value();
  wish.kind = options_.kind.value_or(had_tree || (!state.hash && !is_boot_class(input.partition))
                                         ? FooterKind::Tree
                                         : FooterKind::Hash);
  wish.salt = usual_salt(input.partition, state.content_size);
  if (state.hash) {
    wish.partition = state.hash->partition;
    wish.algorithm = state.hash->hash_algorithm;
    wish.salt = state.hash->salt;
    wish.claim_flags = state.hash->flags;
  }
  if (state.tree) {
    wish.partition = state.tree->partition;
    wish.algorithm = state.tree->hash_algorithm;
    wish.salt = state.tree->salt;
    wish.claim_flags = state.tree->flags;
  }
  if (options_.algorithm) wish.algorithm = *options_.algorithm;
  if (options_.salt) wish.salt = *options_.salt;
  if (wish.kind == FooterKind::Tree)
    wish.fec_roots =
        options_.fec_roots.value_or(state.tree ? state.tree->fec_num_roots : kUsualRoots);
  wish.draft = state.draft.value_or(verified::new_draft());
  wish.signed_digest = signing_digest(state.signed_digest);
  const bool chained = chained_.contains(input.partition);
  if (options_.signer && (state.was_signed || chained || !any_struct_)) {
    // Next to a struct that has its digest, the own one need not be signed.
    if (state.was_signed || chained || options_.new_vbmeta.empty())
      wish.signer = options_.signer.get();
  }
  return wish;
}

Status Sealer::footed(const SealInput& input) {
  SealedImage sealed{.partition = input.partition};
  WEXLO_TRY(const SourcePtr source, seal_older(input, options_, sealed, out_.findings));
  auto state = footer_state(*input.source);
  if (!state) return fail(in_file(std::move(state).error(), input.source->name()));
  if (source != input.source) state->content_size = state->kept = source->size();
  std::optional<std::uint64_t> size = size_of(input.partition);
  if (!size && state->footer) size = state->footer->end;
  if (!size && options_.older != OlderSignature::Keep) return plain(source, std::move(sealed));
  if (!size)
    return usage(fmt::format("{} has no footer yet: how large is its partition?", input.partition),
                 fmt::format("Add --partition-size {}=BYTES; wexlo inspect of the firmware, or the "
                             "phone's partition-size variable, tells it.",
                             input.partition));
  if (*size % kBlock != 0)
    return usage(fmt::format("a partition of {} bytes cannot have a footer", *size),
                 "Partition sizes are multiples of 4096.");
  // Bytes behind the footer of a stock image stay behind it: in a partition of another size nobody
  // but the maker knows where they would go.
  const bool has_more = state->footer && state->footer->end < input.source->size();
  if (has_more && *size != state->footer->end)
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = "bytes behind the verified-boot footer would be lost",
                 .file = input.source->name(),
                 .offset = state->footer->end,
                 .expected = fmt::format("a partition of {} bytes", state->footer->end),
                 .found = fmt::format("{} bytes", *size),
                 .hint = "Leave --partition-size out, or cut the image off behind its footer."});
  FooterWish wish = wish_for(input, *state, *size);
  WEXLO_CHECK(apply_values(wish.draft, input.partition, sealed));
  WEXLO_TRY(ImageSink* const sink, open_(input.partition));
  auto footed = write_footed(*source, state->content_size, state->kept, wish, *sink, context_);
  if (!footed) return fail(in_file(std::move(footed).error(), input.source->name()));
  sealed.size = *size;
  if (has_more) {
    sealed.size = input.source->size();
    WEXLO_CHECK(keep_end(*input.source, *size, *sink));
  }
  if (sealed.size <= kMostRecorded) {
    WEXLO_TRY(sealed.sha256, digest_of(*sink, sealed.size, context_));
  }
  sealed.done.insert(sealed.done.begin(),
                     fmt::format("{} {} over {} bytes{}", kind_word(wish.kind), wish.algorithm,
                                 state->content_size,
                                 wish.fec_roots != 0 ? fmt::format(", error correction with {} "
                                                                   "roots",
                                                                   wish.fec_roots)
                                                     : ""));
  if (state->was_signed && wish.signer == nullptr) unsigned_now(input.partition);
  Offer offer{wish.partition, footed->claim, {}, wish.signer != nullptr};
  const Image own = *verified::parse_vbmeta(Blob(footed->vbmeta));
  WEXLO_TRY(const Draft draft, verified::draft_of(own));
  const auto parsed = draft.parsed();
  for (std::size_t i = 0; i < parsed.size(); ++i)
    if (verified::partition_of(parsed[i]).empty()) offer.beside.push_back(draft.descriptors[i]);
  offers_.push_back(std::move(offer));
  finish(std::move(sealed), wish.signer, wish.signed_digest);
  return {};
}

/// An image that gets no footer: only its older signature was asked for.
Status Sealer::plain(const SourcePtr& source, SealedImage sealed) {
  WEXLO_TRY(ImageSink* const sink, open_(sealed.partition));
  WEXLO_CHECK(sink->resize(source->size()));
  WEXLO_TRY(const Blob all, read_all(*source, kMaxOlder * 2));
  WEXLO_CHECK(sink->write_at(0, all.view()));
  sealed.size = all.size();
  sealed.sha256 = sha256_hex(all.view());
  sealed.algorithm = "none";
  out_.images.push_back(std::move(sealed));
  return {};
}

Result<Sealed> seal_images(const std::vector<SealInput>& images, const SealOptions& options,
                           const OpenSink& open, const Context& context) {
  return Sealer(images, options, open, context).run();
}

}  // namespace wexlo
