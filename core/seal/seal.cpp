#include "seal/seal.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/digest.hpp"
#include "image/tail.hpp"
#include "judge/phone_set.hpp"
#include "seal/seal_older.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

using verified::ChainDescriptor;
using verified::Descriptor;
using verified::Draft;
using verified::HashDescriptor;
using verified::HashtreeDescriptor;
using Claim = decltype(Descriptor::value);

constexpr std::uint64_t kBlock = 4096;
constexpr unsigned kUsualRoots = 2;

std::string_view kind_word(FooterKind kind) {
  return kind == FooterKind::Hash ? "hash footer" : "hash tree footer";
}

/// What a sealed image with a footer offers to the struct that covers it.
struct Offer {
  std::string partition;
  std::optional<Claim> claim;  ///< none: a vbmeta image
  std::vector<Bytes> beside;   ///< properties and command lines of its struct
  bool is_signed = false;      ///< with the given key
};

class Sealer {
 public:
  Sealer(const std::vector<SealInput>& images, const SealOptions& options, const OpenSink& open,
         const Context& context)
      : images_(images), options_(options), open_(open), context_(context) {}

  Result<Sealed> run() {
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

 private:
  Status usage(std::string message, std::string hint) const {
    return fail({.code = ErrorCode::Usage, .message = std::move(message), .hint = std::move(hint)});
  }

  /// Every value has an image it is for.
  Status check_names() const {
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

  bool is_top(const std::string& partition) const {
    return partition == "vbmeta" || !chained_.contains(partition);
  }

  /// Partitions that a given vbmeta image chains.
  Status read_chained() {
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

  static Result<Image> read_struct(const Source& source) {
    WEXLO_TRY(Bytes bytes, read_some(source, 0, verified::kMaxVbmeta));
    auto image = verified::parse_vbmeta(Blob(std::move(bytes)));
    if (!image) return fail(in_file(std::move(image).error(), source.name()));
    return image;
  }

  /// Rollback index, flags and properties asked for.
  Status apply_values(Draft& draft, const std::string& partition, SealedImage& sealed) const {
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

  DigestKind signing_digest(DigestKind before) const {
    return options_.signed_digest.value_or(before);
  }

  std::optional<std::uint64_t> size_of(const std::string& partition) const {
    const auto named = options_.sizes.find(partition), only = options_.sizes.find("");
    if (named != options_.sizes.end()) return named->second;
    // Without a name it is the given image's, never that of a struct made besides.
    const bool mine = only != options_.sizes.end() && partition == images_.front().partition;
    return mine ? std::optional(only->second) : std::nullopt;
  }

  void note(Level level, FindingId id, std::string message, const std::string& where) {
    out_.findings.push_back({level, std::move(id), std::move(message), where});
  }

  void finish(SealedImage sealed, const verified::Signer* signer, DigestKind digest) {
    sealed.algorithm = "none";
    if (signer != nullptr) {
      const auto algorithm = verified::algorithm_for(digest, signer->bits());
      sealed.algorithm = verified::algorithm_name(algorithm ? algorithm->id : 0);
      sealed.public_key_sha256 = sha256_hex(signer->public_key());
      sealed.done.push_back(fmt::format("signed {}, key {}…", sealed.algorithm,
                                        sealed.public_key_sha256.substr(0, 16)));
    }
    out_.images.push_back(std::move(sealed));
  }

  void unsigned_now(const std::string& partition) {
    note(Level::Warning, FindingCode::NowUnsigned,
         "It was signed, and there is no key to sign it again: it is unsigned now, which an "
         "unlocked phone passes over.",
         partition);
  }

  Status footed(const SealInput& input);
  FooterWish wish_for(const SealInput& input, const FooterState& state, std::uint64_t size) const;
  Status plain(const SourcePtr& source, SealedImage sealed);
  Status reseal(const SealInput& input);
  /// A struct's image as it was given.
  struct Stock {
    const Image* image;
    const Source* source;
  };
  Status write_struct_image(const Draft& draft, std::uint64_t old_size, const Stock* before,
                            const std::string& partition, SealedImage sealed);
  Status keep_behind(const Stock& before, std::uint64_t struct_size, std::uint64_t size,
                     ImageSink& sink) const;
  static Status read_back(ImageSink& sink, View meant, const std::string& partition);
  Status make_vbmeta();
  bool take_offers(Draft& draft, SealedImage& sealed, const std::string& partition);
  Status add_includes(Draft& draft, SealedImage& sealed);

  const std::vector<SealInput>& images_;
  const SealOptions& options_;
  const OpenSink& open_;
  const Context& context_;
  std::set<std::string> chained_;
  std::vector<Offer> offers_;
  bool any_struct_ = false;
  Sealed out_;
};

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
  if (!size && state->footer) size = input.source->size();
  if (!size && options_.older != OlderSignature::Keep) return plain(source, std::move(sealed));
  if (!size)
    return usage(fmt::format("{} has no footer yet: how large is its partition?", input.partition),
                 fmt::format("Add --partition-size {}=BYTES; wexlo inspect of the firmware, or the "
                             "phone's partition-size variable, tells it.",
                             input.partition));
  if (*size % kBlock != 0)
    return usage(fmt::format("a partition of {} bytes cannot have a footer", *size),
                 "Partition sizes are multiples of 4096.");
  FooterWish wish = wish_for(input, *state, *size);
  WEXLO_CHECK(apply_values(wish.draft, input.partition, sealed));
  WEXLO_TRY(ImageSink* const sink, open_(input.partition));
  auto footed = write_footed(*source, state->content_size, state->kept, wish, *sink, context_);
  if (!footed) return fail(in_file(std::move(footed).error(), input.source->name()));
  sealed.size = *size;
  if (*size <= kMostRecorded) {
    WEXLO_TRY(sealed.sha256, digest_of(*sink, *size, context_));
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
    Claim claim = *offer->claim;
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

/// The struct as it stands in the output is the one that was meant, and its own hash is true.
Status Sealer::read_back(ImageSink& sink, View meant, const std::string& partition) {
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
  if (before != nullptr) WEXLO_CHECK(keep_behind(*before, bytes.size(), size, *sink));
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

}  // namespace

Result<Sealed> seal_images(const std::vector<SealInput>& images, const SealOptions& options,
                           const OpenSink& open, const Context& context) {
  return Sealer(images, options, open, context).run();
}

}  // namespace wexlo
