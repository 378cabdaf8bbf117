#pragma once
/// The tree of digests that dm-verity checks a partition with, and the error correction codes
/// beside it: docs/formats/vbmeta.md. Both are computed from bytes that anybody can read.

#include "base/digest.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

#include <span>
#include <vector>

namespace wexlo::verified {

inline constexpr std::uint64_t kHashBlock = 4096;
/// Bytes of an error correction codeword: data and parity together.
inline constexpr unsigned kCodeword = 255;

/// Reads bytes of the data; several threads at once.
using ReadData = std::function<Status(std::uint64_t offset, MutableView out)>;

struct HashTree {
  Bytes tree;  ///< top level first; empty for a single data block
  Bytes root;
};
/// What each digest takes in a tree: its length rounded up to a power of two.
[[nodiscard]] std::uint64_t digest_room(DigestKind kind);
/// Sizes in bytes of the tree's levels, the lowest first; the last is one block. None for a single
/// data block. @param size  bytes of the data
[[nodiscard]] std::vector<std::uint64_t> tree_levels(std::uint64_t size, DigestKind kind,
                                                     std::uint64_t data_block = kHashBlock,
                                                     std::uint64_t hash_block = kHashBlock);

/// Bytes of the tree over so many bytes of data. @param size  rounded up to whole blocks
[[nodiscard]] std::uint64_t hash_tree_size(std::uint64_t size, DigestKind kind);
/// Errors: those of reading, Interrupted.
[[nodiscard]] Result<HashTree> build_hash_tree(const ReadData& read, std::uint64_t size,
                                               DigestKind kind, View salt, const Context& context);
/// "sha1", "sha256", "sha512" as descriptors and manifests spell them; nullopt: not known.
[[nodiscard]] std::optional<DigestKind> hash_algorithm(std::string_view name);

/// Bytes of the codes over so many bytes of data. @param roots  parity bytes a codeword, 2 to 24
[[nodiscard]] std::uint64_t fec_size(std::uint64_t size, unsigned roots);
/// Bytes from one byte of a codeword to its next: a codeword takes the bytes at c + j * span.
[[nodiscard]] std::uint64_t fec_span(std::uint64_t size, unsigned roots);
/// Fills the erased bytes of one codeword in. @param word  255 bytes, data first, then parity; the
/// bytes at `erased` (at most as many as roots, each once) are taken for unknown
void fill_erasures(std::span<std::uint8_t, 255> word, std::span<const std::size_t> erased);

/// Computes the codes, and gives them piece by piece with their place (from the codes' start),
/// several threads at once. Errors: those of reading and taking, Interrupted.
[[nodiscard]] Status build_fec(const ReadData& read, std::uint64_t size, unsigned roots,
                               const std::function<Status(std::uint64_t offset, View codes)>& take,
                               const Context& context);

}  // namespace wexlo::verified
