#pragma once
/// Other images in a super: extents, tables and their sums made anew, in all copies. Facts in
/// docs/formats/super.md.

#include "firmware/sparse_write.hpp"

namespace wexlo {

struct LogicalImage {
  std::string name;  ///< of the logical partition, with its slot
  SourcePtr image;
};

struct RewrittenSuper {
  SourcePtr source;              ///< views into the old super and the new images
  std::vector<ByteRange> given;  ///< what tables and partitions take, by place; the rest is free
};

/// The partition takes the image's size, rounded up to a block; its extents are kept as far as they
/// go, and more are taken from what is free. The tables of each slot that knows the partition are
/// written anew, primary and backup. Other partitions' bytes stay where they are.
/// Errors: NotFound (no such partition), DoesNotFit (no room in super, or in its group),
/// Unsupported (it lies on another block device, tables in another order, a newer minor version),
/// Corrupt.
[[nodiscard]] Result<RewrittenSuper> rewrite_super(const SourcePtr& super,
                                                   const std::vector<LogicalImage>& images);

}  // namespace wexlo
