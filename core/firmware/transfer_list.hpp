#pragma once
/// Partitions of older over-the-air packages: a list of block ranges, and the data that goes there
/// one after the other. Facts in docs/formats/transfer-list.md.

#include "firmware/opening.hpp"

namespace wexlo {

/// Blocks of 4096 bytes, from the first to before the last, one range after the other.
using BlockRanges = std::vector<std::pair<std::uint64_t, std::uint64_t>>;

/// Where the bytes of a command come from: blocks of the older image, stashed ones, or both, each
/// with its place in what is put together.
struct TransferSource {
  std::uint64_t blocks = 0;  ///< in all
  BlockRanges ranges;        ///< of the image; empty: none
  BlockRanges places;        ///< of those in what is put together; empty: from its start
  std::vector<std::pair<std::string, BlockRanges>> stashed;  ///< by id, with their places
};

enum class TransferAct : std::uint8_t { New, Zero, Move, Patch, Stash, Free, HashTree };

/// One command of a list whose commands are done one by one.
struct TransferCommand {
  TransferAct act{};
  BlockRanges target;
  TransferSource source;
  std::uint64_t patch_at = 0, patch_size = 0;  ///< in the patch data, bytes
  std::string id;                              ///< of Stash and Free
  std::string old_sha1, new_sha1;              ///< lower-case hex; empty: not said
  std::string algorithm, root;                 ///< of HashTree: its digest, and the root's, hex
  Bytes salt;
};

struct TransferPlan {
  unsigned version = 0;
  std::uint64_t size = 0;                                       ///< bytes of the image
  std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges;  ///< of `new`: begin, end in bytes
  [[nodiscard]] std::uint64_t data_size() const;                ///< bytes that the ranges take
  std::string foreign;  ///< the first command that needs the older build; empty: none
  /// Where it starts from an older build, or a hash tree is computed over what it writes; empty:
  /// its ranges say all.
  std::vector<TransferCommand> commands{};
};

/// Errors: BadValue with the line's number, LimitExceeded.
[[nodiscard]] Result<TransferPlan> read_transfer_list(std::string_view text,
                                                      const std::string& name);

/// The image of a plan. @param data  the new data, unpacked. Reading checks that the data is
/// exactly as long as the ranges. Errors of reading: Unsupported (the list needs the older build),
/// Truncated, Corrupt.
[[nodiscard]] ContentPtr transfer_content(TransferPlan plan, SourcePtr data);

/// The same for a list whose commands are done one by one, in a temporary file: on top of the older
/// build's image, where it starts from one. What the list names a digest of is checked. Errors of
/// reading: Unsupported (no older build was given), DigestMismatch (it is another one), those of
/// the patches.
/// @param patches  nullptr: the package has none  @param partition  in the older build
[[nodiscard]] ContentPtr ordered_transfer(TransferPlan plan, SourcePtr data, SourcePtr patches,
                                          std::string partition, const Opening& opening);

}  // namespace wexlo
