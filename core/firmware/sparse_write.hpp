#pragma once
/// Writing sparse images: docs/formats/sparse.md.

#include <functional>
#include <vector>

#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

inline constexpr std::uint64_t kSparseBlock = 4096;

/// Bytes [begin, end).
struct ByteRange {
  std::uint64_t begin = 0, end = 0;
  bool operator==(const ByteRange&) const = default;
};

/// An image, and what of it has to be given; an empty list: all of it. What is not given is "don't
/// care": whatever the phone has there stays.
struct SparseInput {
  const Source& image;
  std::vector<ByteRange> given{};  ///< by place, apart from each other
};

/// What a source gives: of a sparse image that was opened, its data and fills. Errors: those of
/// reading.
[[nodiscard]] Result<std::vector<ByteRange>> given_ranges(const Source& image);

/// Where one piece of an image ends and the next begins, in blocks.
struct SparseCut {
  std::uint64_t first = 0, count = 0;
};

/// Cuts an image so that each piece, headers included, has at most `limit` bytes. Zero blocks take
/// next to nothing. 0: no limit, one piece. Errors: Usage (a limit below 64 KiB), those of reading.
[[nodiscard]] Result<std::vector<SparseCut>> cut_sparse(const SparseInput& input,
                                                        std::uint64_t limit,
                                                        const Context& context);

/// One piece as a sparse image: blocks of 4096, zero blocks as fill chunks, all outside of it
/// "don't care". What lacks to a whole block is zeros. Gives its bytes in order to `out`.
[[nodiscard]] Status write_sparse(const SparseInput& input, const SparseCut& cut,
                                  const Context& context, const std::function<Status(View)>& out);

/// As above, in an anonymous temporary file that goes with the source.
[[nodiscard]] Result<SourcePtr> sparse_source(const SparseInput& input, const SparseCut& cut,
                                              const std::string& name, const Context& context);
/// The whole image as one.
[[nodiscard]] Result<SourcePtr> as_sparse(const SparseInput& input, const std::string& name,
                                          const Context& context);

}  // namespace wexlo
