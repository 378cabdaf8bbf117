/// Partitions that a sector-addressed listing puts together of several files.

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "firmware/formats.hpp"
#include "firmware/pieces.hpp"

namespace wexlo {
namespace {

Error not_placed(const ListedPieces& pieces, std::string message, std::string expected,
                 std::string found) {
  return {.code = ErrorCode::Corrupt,
          .message = fmt::format("{} of {}", message, pieces.partition),
          .file = pieces.by,
          .expected = std::move(expected),
          .found = std::move(found),
          .hint = "The listing contradicts itself: fetch the package again."};
}

/// A file's bytes, or the part of them that is this piece.
Result<SourcePtr> bytes_of(const ListedPieces::Part& part, const SourcePtr& stored,
                           const Opening& opening, bool& sparse) {
  const FileName file = read_file_name(part.item->path);
  WEXLO_TRY(Unwrapped inner, unwrap(stored, file.packed, opening.deeper()));
  sparse |= contains(inner.layers, "sparse", &Layer::kind);
  const SectorPlace& place = *part.row.place;
  if (place.file_offset > inner.source->size())
    return fail({.code = ErrorCode::Truncated,
                 .message = "the file ends before the piece that a listing takes from it",
                 .file = part.item->path,
                 .offset = place.file_offset,
                 .expected = fmt::format("more than {} bytes", place.file_offset),
                 .found = fmt::format("{} bytes", inner.source->size()),
                 .hint = "Fetch the package again; compare its digest with the source's."});
  std::uint64_t size = inner.source->size() - place.file_offset;
  if (place.sectors) size = std::min(size, *place.sectors * place.sector_size);
  return open_window(inner.source, place.file_offset, size, inner.source->name());
}

struct Placed {
  std::uint64_t at = 0;  ///< bytes from the partition's start
  SourcePtr source;
};

Result<SourcePtr> lay_out(const ListedPieces& pieces, std::vector<Placed> placed) {
  std::ranges::sort(placed, {}, &Placed::at);
  std::vector<Piece> out;
  std::uint64_t end = 0;
  for (Placed& one : placed) {
    if (one.at < end)
      return fail(not_placed(pieces, "two pieces overlap", fmt::format("from byte {} on", end),
                             fmt::format("{} begins at byte {}, and the one before it ends at {}",
                                         one.source->name(), one.at, end)));
    if (one.at > end) out.push_back({nullptr, 0, one.at - end});
    const std::uint64_t size = one.source->size();
    end = one.at + size;
    if (size > 0) out.push_back({std::move(one.source), 0, size});
  }
  return open_joined(std::move(out), pieces.partition);
}

}  // namespace

Result<JoinedPieces> join_listed(const ListedPieces& pieces, const ListingIndex& listings,
                                 const Opening& opening) {
  JoinedPieces out;
  const auto first = std::ranges::min_element(pieces.parts, {}, [](const auto& part) {
    // Counted from the end, the farthest comes first.
    const listing::Sector sector = part.row.place->first;
    return sector.from_end ? ~sector.number : sector.number;
  });
  const SectorPlace start = *first->row.place;
  std::vector<Placed> placed;
  for (const ListedPieces::Part& part : pieces.parts) {
    const SectorPlace& place = *part.row.place;
    if (place.first.from_end != start.first.from_end || place.sector_size != start.sector_size)
      return fail(not_placed(pieces, "the places cannot be compared",
                             "sectors counted from the same end, of one size", part.row.file));
    if (part.item == nullptr)
      return fail({.code = ErrorCode::NotFound,
                   .message = fmt::format("a piece of {} is missing", pieces.partition),
                   .file = pieces.by,
                   .expected = part.row.file,
                   .found = "no such file in the package",
                   .hint = "Fetch the package again; all pieces belong into one folder."});
    WEXLO_TRY(SourcePtr stored, part.item->open(opening.context));
    if (auto promises = listings.promises_of(*part.item); !promises.empty())
      out.stored.push_back({stored, std::move(promises)});
    out.stored_size += part.item->stored_size;
    WEXLO_TRY(SourcePtr bytes, bytes_of(part, stored, opening, out.sparse));
    const std::uint64_t distance = start.first.from_end ? start.first.number - place.first.number
                                                        : place.first.number - start.first.number;
    placed.push_back({distance * place.sector_size, std::move(bytes)});
  }
  WEXLO_TRY(out.source, lay_out(pieces, std::move(placed)));
  return out;
}

}  // namespace wexlo
