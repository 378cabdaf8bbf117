#pragma once
/// Writing sparse images: docs/formats/sparse.md.

#include <filesystem>
#include <functional>
#include <vector>

#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

inline constexpr std::uint64_t kSparseBlock = 4096;

/// Where one piece of an image ends and the next begins, in blocks.
struct SparseCut {
  std::uint64_t first = 0, count = 0;
};

/// Cuts an image so that each piece, headers included, has at most `limit` bytes. Zero blocks take
/// next to nothing. 0: no limit, one piece. Errors: Usage (a limit below 64 KiB), those of reading.
[[nodiscard]] Result<std::vector<SparseCut>> cut_sparse(const Source& image, std::uint64_t limit,
                                                        const Context& context);

/// One piece as a sparse image: blocks of 4096, zero blocks as fill chunks, all outside of it
/// "don't care". What lacks to a whole block is zeros. Gives its bytes in order to `out`.
[[nodiscard]] Status write_sparse(const Source& image, const SparseCut& cut, const Context& context,
                                  const std::function<Status(View)>& out);

/// As above, into a new file.
[[nodiscard]] Status write_sparse_file(const std::filesystem::path& file, const Source& image,
                                       const SparseCut& cut, const Context& context);

}  // namespace wexlo
