#pragma once
/// Images that come in several files: numbered ones, and those that a sector-addressed listing puts
/// together.

#include "firmware/listed_content.hpp"
#include "firmware/listing_index.hpp"
#include "firmware/opening.hpp"

namespace wexlo {

struct JoinedPieces {
  SourcePtr source;
  bool sparse = false;               ///< of sparse images
  std::vector<StoredFile> stored{};  ///< files that have digests in a listing
  std::uint64_t stored_size = 0;     ///< bytes of the files
};

/// Sparse ones are laid over each other, others stand one behind the other; what packs each is
/// taken off. @param items  of one set nullopt: they are images of their own. Errors: NotFound (a
/// number is missing, or there twice), and those of the pieces.
[[nodiscard]] Result<std::optional<JoinedPieces>> join_numbered(std::vector<const Item*> items,
                                                                const std::string& name,
                                                                const ListingIndex& listings,
                                                                const Opening& opening);

/// Each piece lies at (its first sector - the partition's first sector) x sector size, with zeros
/// between them. Errors: NotFound (a piece is not in the package), Corrupt (pieces overlap, or
/// their sectors are not counted from the same end), and those of the files.
[[nodiscard]] Result<JoinedPieces> join_listed(const ListedPieces& pieces,
                                               const ListingIndex& listings,
                                               const Opening& opening);

}  // namespace wexlo
