#pragma once
/// Other images in a package, whatever holds them: zips, tars, folders, numbered sets, super,
/// sparse and packed images, in any nesting. All that names a replaced file is made true again.

#include <filesystem>
#include <map>

#include "archive/bundle.hpp"
#include "firmware/opening.hpp"
#include "firmware/relist.hpp"
#include "firmware/sparse_write.hpp"

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
  std::vector<std::string> lists;  ///< texts that were made true again, as `package!path`
  std::vector<Note> notes;         ///< signatures that are broken, and the like
  bool sum_line = false;           ///< a sum line was made anew
};

struct InsertOptions {
  std::string sum_name;  ///< what a sum line calls the package; empty: as it did
  Context context;
};

/// A package in one file. @param single  it is one image, perhaps packed: Firmware::single. What it
/// gives reads from the old package and the images: they have to stay. Errors: Unsupported (a
/// payload, a transfer list, a disk dump), DoesNotFit, those of reading and packing.
[[nodiscard]] Result<SourcePtr> insert_into(const SourcePtr& package, bool single,
                                            const std::vector<Wish>& wishes,
                                            const InsertOptions& options, InsertReport& report);

/// A package that is a folder: the files that change, by their paths in it.
[[nodiscard]] Result<std::map<std::string, SourcePtr>> insert_into_folder(
    const std::filesystem::path& folder, const std::vector<Wish>& wishes,
    const InsertOptions& options, InsertReport& report);

}  // namespace wexlo
