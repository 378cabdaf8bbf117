#pragma once
/// Judging what a hashtree descriptor says of a partition, and repairing single bad blocks with the
/// error correction codes beside the tree: docs/formats/vbmeta.md.

#include <vector>

#include "verified/hash_tree.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::verified {

/// A block whose digest is not what the level above it says.
struct BadBlock {
  unsigned level = 0;        ///< 0: of the data; else of the tree, 1 its lowest level
  std::uint64_t block = 0;   ///< number of the block: of the data, or of the tree as it is stored
  std::uint64_t offset = 0;  ///< bytes from the partition's start
};

struct TreeCheck {
  bool root_holds = false;       ///< the top block's digest is the root digest
  std::uint64_t bad_blocks = 0;  ///< how many
  std::vector<BadBlock> first;   ///< the first of them by their place, at most kShownBad
  [[nodiscard]] bool holds() const { return root_holds && bad_blocks == 0; }
};
inline constexpr std::size_t kShownBad = 4096;

/// Whether a descriptor's numbers fit each other and a partition of that size.
/// Errors: Unsupported (dm-verity version, algorithm, block sizes), OutOfRange, BadValue.
[[nodiscard]] Status check_tree_numbers(const HashtreeDescriptor& tree,
                                        std::uint64_t partition_size);

/// Every data block against the stored tree, every block of the tree against the one above it, the
/// top against the root digest; in parallel. Errors: as check_tree_numbers, those of reading,
/// Interrupted.
[[nodiscard]] Result<TreeCheck> check_tree(const Source& partition, const HashtreeDescriptor& tree,
                                           const Context& context);

struct FecCheck {
  std::uint64_t wrong_blocks = 0;           ///< of 4096 bytes of the codes
  std::optional<std::uint64_t> first = {};  ///< offset of the first of them in the partition
};
/// Are the codes those of the data and the tree? Errors: Unsupported (roots, blocks other than
/// 4096), OutOfRange, those of reading, Interrupted.
[[nodiscard]] Result<FecCheck> check_fec(const Source& partition, const HashtreeDescriptor& tree,
                                         const Context& context);

struct Repaired {
  std::uint64_t offset = 0;
  Bytes bytes;  ///< the block as it was
};
/// The bad blocks' bytes again, by the codes; each is proven by the tree. Bad blocks of one
/// codeword beyond the number of roots cannot be given again.
/// Errors: NoMatch (which blocks, and why not), as check_fec.
[[nodiscard]] Result<std::vector<Repaired>> repair_blocks(const Source& partition,
                                                          const HashtreeDescriptor& tree,
                                                          const TreeCheck& found,
                                                          const Context& context);

}  // namespace wexlo::verified
