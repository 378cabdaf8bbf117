#include "seal/seal_image.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "firmware/formats.hpp"
#include "image/boot.hpp"
#include "image/sealed_block.hpp"
#include "image/tail.hpp"
#include "verified/chain.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kSealBlock = verified::kHashBlock, kPiece = 4u << 20;
constexpr std::uint64_t kMaxParsed = 256u << 20;

Error does_not_fit(const FooterWish& wish, std::uint64_t need) {
  return {.code = ErrorCode::DoesNotFit,
          .message = fmt::format("{} is {} bytes too large for its partition with what verified "
                                 "boot puts behind it",
                                 wish.partition, need - wish.partition_size),
          .expected = fmt::format("at most {} bytes", wish.partition_size),
          .found = fmt::format("{} bytes", need),
          .hint = "Make the image smaller, or give the right --partition-size."};
}

Status copy(const Source& image, std::uint64_t size, ImageSink& out, const Context& context) {
  for (std::uint64_t at = 0; at < size;) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(const Bytes piece, read_some(image, at, std::min(kPiece, size - at)));
    if (piece.empty())
      return fail({.code = ErrorCode::Truncated, .message = "the image ends early", .offset = at});
    WEXLO_CHECK(out.write_at(at, piece));
    at += piece.size();
  }
  return {};
}

/// Reads content from the image, and zeros behind it.
verified::ReadData padded(const Source& image, std::uint64_t content_size) {
  return [&image, content_size](std::uint64_t offset, MutableView into) -> Status {
    const auto there = static_cast<std::size_t>(
        std::min<std::uint64_t>(into.size(), offset < content_size ? content_size - offset : 0));
    if (there > 0) WEXLO_CHECK(image.read_at(offset, into.first(there)));
    std::ranges::fill(into.subspan(there), std::byte{0});
    return {};
  };
}

/// The tree and its codes behind the image; the claim with them. `end` is where they end.
Result<verified::HashtreeDescriptor> write_tree(const Source& image, std::uint64_t content_size,
                                                const FooterWish& wish, ImageSink& out,
                                                std::uint64_t& end, const Context& context) {
  const auto kind = verified::hash_algorithm(wish.algorithm);
  if (!kind)
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("hash trees with {} are not known", wish.algorithm),
                 .expected = "sha1, sha256 or sha512"});
  verified::HashtreeDescriptor tree{.partition = wish.partition,
                                    .hash_algorithm = wish.algorithm,
                                    .image_size = align_up(content_size, kSealBlock)};
  tree.flags = wish.claim_flags;
  tree.salt = wish.salt;
  tree.data_block_size = tree.hash_block_size = kSealBlock;
  tree.tree_offset = tree.image_size;
  tree.tree_size = verified::hash_tree_size(tree.image_size, *kind);
  const std::uint64_t covered = tree.tree_offset + tree.tree_size;
  if (wish.fec_roots != 0) {
    tree.fec_num_roots = wish.fec_roots;
    tree.fec_offset = covered;
    tree.fec_size = verified::fec_size(covered, wish.fec_roots);
  }
  end = covered + tree.fec_size;
  // Known to fit before the long work begins.
  if (end + 2 * kSealBlock > wish.partition_size)
    return fail(does_not_fit(wish, end + 2 * kSealBlock));
  const auto read = padded(image, content_size);
  // What is hashed is written on the way: every block of the data passes here once.
  const auto copy_through = [&](std::uint64_t offset, MutableView into) -> Status {
    WEXLO_CHECK(read(offset, into));
    return out.write_at(offset, into);
  };
  WEXLO_TRY(auto built,
            verified::build_hash_tree(copy_through, tree.image_size, *kind, wish.salt, context));
  tree.root_digest = std::move(built.root);
  WEXLO_CHECK(out.write_at(tree.tree_offset, built.tree));
  WEXLO_CHECK(check_written(out, tree.tree_offset, built.tree));
  if (wish.fec_roots == 0) return tree;
  const auto read_both = [&](std::uint64_t offset, MutableView into) -> Status {
    const auto data = static_cast<std::size_t>(std::min<std::uint64_t>(
        into.size(), offset < tree.image_size ? tree.image_size - offset : 0));
    if (data > 0) WEXLO_CHECK(read(offset, into.first(data)));
    if (data == into.size()) return {};
    const auto at = static_cast<std::size_t>(offset + data - tree.image_size);
    std::ranges::copy(View(built.tree).subspan(at, into.size() - data),
                      into.begin() + static_cast<std::ptrdiff_t>(data));
    return {};
  };
  WEXLO_CHECK(verified::build_fec(
      read_both, covered, wish.fec_roots,
      [&](std::uint64_t at, View codes) { return out.write_at(tree.fec_offset + at, codes); },
      context));
  return tree;
}

Result<verified::HashDescriptor> make_hash(const Source& image, std::uint64_t content_size,
                                           const FooterWish& wish, const Context& context) {
  const auto kind = verified::hash_algorithm(wish.algorithm);
  if (!kind || *kind == DigestKind::Sha1)
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("loaders know no image digest by {}", wish.algorithm),
                 .expected = "sha256 or sha512"});
  verified::HashDescriptor hash{.partition = wish.partition,
                                .hash_algorithm = wish.algorithm,
                                .image_size = content_size,
                                .flags = wish.claim_flags,
                                .salt = wish.salt,
                                .digest = {}};
  WEXLO_TRY(hash.digest, verified::salted_digest(image, *kind, wish.salt, content_size, context));
  return hash;
}

/// The output read afresh: the content is the image's, the digest matches what stands there,
/// and struct and footer are those that were meant.
Status read_back(const Source& image, std::uint64_t content_size, const Footed& done,
                 const FooterWish& wish, ImageSink& out, const Context& context) {
  const auto* hash = std::get_if<verified::HashDescriptor>(&done.claim);
  const auto kind = hash != nullptr ? verified::hash_algorithm(hash->hash_algorithm) : std::nullopt;
  Hasher hasher(kind.value_or(DigestKind::Sha256));
  if (hash != nullptr) hasher.update(hash->salt);
  Bytes piece;
  for (std::uint64_t at = 0; at < content_size; at += piece.size()) {
    WEXLO_CHECK(check_stop(context));
    WEXLO_TRY(const Bytes meant, read_some(image, at, std::min(kPiece, content_size - at)));
    WEXLO_CHECK(check_written(out, at, meant));
    piece.resize(meant.size());
    if (hash != nullptr) hasher.update(meant);
  }
  WEXLO_CHECK(check_written(out, done.footer.vbmeta_offset, done.vbmeta));
  WEXLO_CHECK(check_written(out, wish.partition_size - verified::kFooterSize,
                            verified::write_footer(done.footer)));
  const auto vbmeta = verified::parse_vbmeta(Blob(done.vbmeta));
  const bool true_digest = hash == nullptr || equal(hasher.finish(), hash->digest);
  if (vbmeta && true_digest && verified::own_hash_matches(*vbmeta).value_or(true)) return {};
  return fail({.code = ErrorCode::Unexplained,
               .message = "the image that was sealed is not valid",
               .expected = "a digest and a struct that match it",
               .found = !vbmeta        ? describe(vbmeta.error())
                        : !true_digest ? "another digest"
                                       : "another hash in the struct",
               .hint = "Nothing was written. This is a fault of Wexlo: please report it."});
}

}  // namespace

Status keep_end(const Source& stock, std::uint64_t from, ImageSink& out) {
  WEXLO_TRY(const Bytes end, read_some(stock, from, stock.size() - from));
  WEXLO_CHECK(out.resize(stock.size()));
  WEXLO_CHECK(out.write_at(from, end));
  return sealed_block::find(end, 0) ? renew_sealed_block(stock, from, stock.size(), out) : Status();
}

Status renew_sealed_block(const Source& stock, std::uint64_t from, std::uint64_t size,
                          ImageSink& out) {
  WEXLO_TRY(const Blob old, read_all(stock, kMaxParsed));
  // Where the image has another size, what was cut off or is new behind the block is zeros.
  Bytes now(old.size());
  const auto common = static_cast<std::size_t>(std::min<std::uint64_t>(size, now.size()));
  WEXLO_CHECK(out.read_at(0, MutableView(now).first(common)));
  const auto at = sealed_block::renew_behind(now, old.view(), from, 0);
  if (!at) return {};
  const View fresh = View(now).subspan(static_cast<std::size_t>(*at), sealed_block::kSize);
  WEXLO_CHECK(out.write_at(*at, fresh));
  return check_written(out, *at, fresh);
}

Status check_written(ImageSink& out, std::uint64_t at, View meant) {
  Bytes piece;
  for (std::size_t done = 0; done < meant.size(); done += piece.size()) {
    const View part = meant.subspan(done, std::min<std::size_t>(kPiece, meant.size() - done));
    piece.resize(part.size());
    WEXLO_CHECK(out.read_at(at + done, piece));
    const auto [found, wanted] = std::ranges::mismatch(piece, part);
    if (wanted == part.end()) continue;
    return fail({.code = ErrorCode::Unexplained,
                 .message = "what was written does not read back the same",
                 .offset = at + done + static_cast<std::uint64_t>(wanted - part.begin()),
                 .expected = hex(View(&*wanted, 1)),
                 .found = hex(View(&*found, 1)),
                 .hint = "The disk may be failing: write to another one."});
  }
  return {};
}

Bytes usual_salt(const std::string& partition, std::uint64_t content_size) {
  return digest(DigestKind::Sha256,
                as_view(fmt::format("salt of {} with {} bytes", partition, content_size)));
}

Result<Footed> write_footed(const Source& image, std::uint64_t content_size, std::uint64_t kept,
                            const FooterWish& wish, ImageSink& out, const Context& context) {
  Footed done;
  WEXLO_CHECK(out.resize(wish.partition_size));
  std::uint64_t end = align_up(kept, kSealBlock);
  if (kept > wish.partition_size || end + 2 * kSealBlock > wish.partition_size)
    return fail(does_not_fit(wish, end + 2 * kSealBlock));
  if (wish.kind == FooterKind::Tree) {
    WEXLO_TRY(auto tree, write_tree(image, content_size, wish, out, end, context));
    done.claim = std::move(tree);
  } else {
    WEXLO_TRY(auto hash, make_hash(image, content_size, wish, context));
    done.claim = std::move(hash);
  }
  verified::Draft draft = wish.draft;
  draft.set_claim(done.claim);
  WEXLO_TRY(done.vbmeta, verified::write_struct(draft, wish.signer, wish.signed_digest));
  const std::uint64_t need = end + align_up(done.vbmeta.size(), kSealBlock) + kSealBlock;
  if (need > wish.partition_size) return fail(does_not_fit(wish, need));
  if (wish.kind == FooterKind::Hash) WEXLO_CHECK(copy(image, kept, out, context));
  WEXLO_CHECK(out.write_at(end, done.vbmeta));
  done.footer = {content_size, end, done.vbmeta.size(), wish.partition_size};
  WEXLO_CHECK(out.write_at(wish.partition_size - verified::kFooterSize,
                           verified::write_footer(done.footer)));
  WEXLO_CHECK(read_back(image, content_size, done, wish, out, context));
  return done;
}

namespace {

/// Where an image without a footer ends: behind its sections and what a maker put there.
std::uint64_t end_of_content(const Source& image) {
  if (image.size() > kMaxParsed) return image.size();
  const auto loaded = load_image(image);
  if (!loaded || !loaded->image || loaded->image->kind() == "vbmeta") return image.size();
  std::uint64_t end = loaded->image->sections_end();
  for (const TailItem& item : tail_items(loaded->image->tail().view()))
    if (item.kind != TailKind::Zeros && item.kind != TailKind::Ones &&
        item.kind != TailKind::Vbmeta && item.kind != TailKind::Footer)
      end = std::max(end, loaded->image->sections_end() + item.offset + item.size);
  return std::min(end, image.size());
}

/// The claim over the image itself: a struct may hold those of other partitions, too.
Result<std::optional<verified::HashDescriptor>> own_hash(
    const std::vector<verified::Descriptor>& all, const Source& image) {
  std::size_t count = 0;
  for (const verified::Descriptor& one : all)
    count += std::holds_alternative<verified::HashDescriptor>(one.value) ? 1 : 0;
  Blob content;
  std::string kind;
  if (count > 1 && image.size() <= kMaxParsed) {
    WEXLO_TRY(content, read_all(image, kMaxParsed));
    const auto loaded = load_image(content, image.name());
    if (loaded && loaded->image) kind = boot::partition_kind(*loaded->image);
  }
  const auto own = verified::own_hash_descriptor(all, content.view(), kind);
  if (!own) return std::nullopt;
  return std::get<verified::HashDescriptor>(all[*own].value);
}

}  // namespace

Result<FooterState> footer_state(const Source& image) {
  FooterState out;
  WEXLO_TRY(out.footer, verified::read_footer(image));
  if (!out.footer) {
    out.content_size = out.kept = end_of_content(image);
    return out;
  }
  WEXLO_TRY(const auto place, verified::find_struct(image, "boot"));
  if (!place || out.footer->original_image_size > out.footer->vbmeta_offset)
    return fail({.code = ErrorCode::OutOfRange,
                 .message = "the verified-boot footer does not lead to a struct in the image",
                 .offset = out.footer->end - verified::kFooterSize,
                 .expected = fmt::format("ranges inside {} bytes", image.size()),
                 .found = fmt::format("image {} bytes, struct {} bytes from {}",
                                      out.footer->original_image_size, out.footer->vbmeta_size,
                                      out.footer->vbmeta_offset),
                 .hint = "Take the stock image, or cut the footer off to make a new one."});
  WEXLO_TRY(Bytes bytes, read_some(image, place->offset, place->size));
  WEXLO_TRY(const Image vbmeta, verified::parse_vbmeta(Blob(std::move(bytes))));
  WEXLO_TRY(out.draft, verified::draft_of(vbmeta));
  out.was_signed = vbmeta.number("algorithm_type") != 0;
  out.signed_digest = verified::signed_digest(vbmeta);
  WEXLO_TRY(out.hash, own_hash(out.draft->parsed(), image));
  for (const verified::Descriptor& one : out.draft->parsed()) {
    if (const auto* tree = std::get_if<verified::HashtreeDescriptor>(&one.value); tree && !out.tree)
      out.tree = *tree;
  }
  out.content_size = out.footer->original_image_size;
  // What a maker keeps between image and struct stays, as long as the image does not grow.
  out.kept = out.tree ? out.content_size : out.footer->vbmeta_offset;
  if (!out.tree && image.size() <= kMaxParsed) {
    const auto loaded = load_image(image);
    const bool grown =
        loaded && loaded->image && loaded->image->kind() != "vbmeta" &&
        loaded->image->sections_end() > align_up(out.content_size, loaded->image->page());
    if (grown) out.content_size = out.kept = loaded->image->sections_end();
  }
  return out;
}

}  // namespace wexlo
