#include "firmware/insert_set.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "codec/codec.hpp"
#include "firmware/sparse.hpp"
#include "firmware/super.hpp"
#include "firmware/super_write.hpp"

namespace wexlo {
namespace {

Result<bool> is_sparse(const Source& piece) {
  WEXLO_TRY(const Bytes start, read_some(piece, 0, 4));
  return looks_like_sparse(start);
}

/// So many cuts: fewer are filled up with pieces that give nothing.
Result<std::vector<SparseCut>> cuts_for(const SparseInput& input, std::uint64_t limit,
                                        std::size_t count, const Context& context) {
  // A little more a time: the limit is the phone's, and what is above it by a hair was so before.
  for (;; limit += limit / 16 + kSparseBlock) {
    WEXLO_TRY(auto cuts, cut_sparse(input, limit, context));
    if (cuts.size() > count) continue;
    const std::uint64_t end = cuts.back().first + cuts.back().count;
    while (cuts.size() < count)
      cuts.push_back({end, 0});
    return cuts;
  }
}

Result<std::vector<SourcePtr>> cut_again(const SparseInput& input,
                                         const std::vector<SourcePtr>& pieces,
                                         const Context& context) {
  std::uint64_t limit = 64u << 10;
  for (const SourcePtr& piece : pieces)
    limit = std::max(limit, piece->size());
  WEXLO_TRY(const auto cuts, cuts_for(input, limit, pieces.size(), context));
  std::vector<SourcePtr> out;
  for (std::size_t i = 0; i < cuts.size(); ++i) {
    WEXLO_TRY(SourcePtr piece, sparse_source(input, cuts[i], pieces[i]->name(), context));
    out.push_back(std::move(piece));
  }
  return out;
}

/// Raw pieces stand one behind the other: each keeps its length, the last takes what is over.
Result<std::vector<SourcePtr>> part_again(const SourcePtr& whole,
                                          const std::vector<SourcePtr>& pieces) {
  std::vector<SourcePtr> out;
  std::uint64_t at = 0;
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    const std::uint64_t left = whole->size() - at;
    const std::uint64_t size = i + 1 == pieces.size() ? left : std::min(left, pieces[i]->size());
    WEXLO_TRY(SourcePtr piece, open_window(whole, at, size, pieces[i]->name()));
    out.push_back(std::move(piece));
    at += size;
  }
  return out;
}

}  // namespace

Result<std::vector<SourcePtr>> insert_into_set(const std::vector<SourcePtr>& pieces,
                                               const std::vector<Wish>& wishes, bool direct,
                                               const InsertOptions& options) {
  bool sparse = true;
  for (const SourcePtr& piece : pieces) {
    WEXLO_TRY(const bool one, is_sparse(*piece));
    sparse = sparse && one;
    WEXLO_TRY(const Bytes start, read_some(*piece, 0, 8));
    if (detect_compression(start))
      return fail({.code = ErrorCode::Unsupported,
                   .message = "the pieces are packed one by one",
                   .file = piece->name(),
                   .hint = "Unpack them and give the folder."});
  }
  SourcePtr whole;
  std::vector<ByteRange> given;
  if (direct) {
    whole = wishes.front().image;
  } else {
    SourcePtr old;
    if (sparse) {
      WEXLO_TRY(old, open_sparse_set(pieces, pieces.front()->name()));
    } else {
      std::vector<Piece> joined;
      for (const SourcePtr& piece : pieces)
        joined.push_back({piece, 0, piece->size()});
      WEXLO_TRY(old, open_joined(std::move(joined), pieces.front()->name()));
    }
    std::vector<LogicalImage> images;
    for (const Wish& wish : wishes)
      images.push_back({wish.name, wish.image});
    WEXLO_TRY(RewrittenSuper rewritten, rewrite_super(old, images));
    whole = std::move(rewritten.source);
    given = std::move(rewritten.given);
  }
  if (!sparse) return part_again(whole, pieces);
  return cut_again({*whole, given}, pieces, options.context);
}

}  // namespace wexlo
