#pragma once
/// What shall be put into a package, and what was done for it.

#include "firmware/firmware.hpp"
#include "firmware/relist.hpp"

namespace wexlo {

/// An image that shall stand in a package instead of its own.
struct Wish {
  std::string name;    ///< the partition's, as its package calls it
  std::string from;    ///< PartitionFacts::from, as far as it is not gone through yet
  std::string inside;  ///< PartitionFacts::inside
  SourcePtr image;     ///< unpacked, not sparse
};

/// A wish for a partition of a firmware.
[[nodiscard]] Wish wish_for(const PartitionFacts& partition, SourcePtr image);

/// What was done besides putting images in.
struct InsertReport {
  std::vector<FileChange> files;   ///< every file that changed, in any nesting
  std::vector<std::string> lists;  ///< texts that were renewed, as `package!path`
  std::vector<Finding> notes;      ///< signatures that are broken, and the like
  bool sum_line = false;           ///< a sum line was made anew
};

struct InsertOptions {
  std::string sum_name;  ///< what a sum line calls the package; empty: as it did
  Context context;
};

}  // namespace wexlo
