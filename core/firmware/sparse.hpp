#pragma once
/// Sparse images: facts in docs/formats/sparse.md. The chunk headers are read as far as they are
/// needed, so that the start of an image costs no walk through all of it.

#include "firmware/opening.hpp"

namespace wexlo {

/// As they are written; a reader takes longer headers, too. Sizes in bytes.
inline constexpr std::uint32_t kSparseMagic = 0xED26FF3A;
inline constexpr std::size_t kSparseHeader = 28, kSparseChunk = 12;

[[nodiscard]] bool looks_like_sparse(View start);

/// The expanded image. Reading checks all sizes; a checker, where the image carries a CRC.
/// Errors: BadMagic, Truncated, BadValue, Unsupported (another major version); while reading also
/// Corrupt (sizes that contradict each other).
[[nodiscard]] Result<SourcePtr> open_sparse(const SourcePtr& source, const Opening& opening);

/// Several sparse images of one partition, laid over each other: each carries its own part and
/// skips the rest. Errors: as above, and BadValue when their sizes differ.
[[nodiscard]] Result<SourcePtr> open_sparse_set(const std::vector<SourcePtr>& sources,
                                                const std::string& name,
                                                const Context& context = {});

}  // namespace wexlo
