#pragma once
/// A ramdisk as a folder: a plain tree of files, and a list beside it with what a host's file
/// system cannot hold without root rights (owners, modes, times, device nodes, links, any spelling
/// of names): docs/formats/parts.md.

#include <filesystem>
#include <string>
#include <vector>

#include "ramdisk/ramdisk.hpp"

namespace wexlo::parts {

/// The folders and the list of one ramdisk, inside the parts folder.
struct TreePaths {
  std::filesystem::path tree;  ///< `tree/`
  std::filesystem::path odd;   ///< `tree.odd/`: files whose names a file system might not keep
  std::filesystem::path list;  ///< `tree.list`
};

/// Nothing outside the folders is touched: links are listed, never made. Errors: UnsafePath
/// (refused before anything is written), Io.
[[nodiscard]] Status write_tree(const Ramdisk& ramdisk, const TreePaths& paths);

enum class TreeChangeKind : std::uint8_t {
  Added,
  Attributes,
  Content,
  Mode,
  Order,
  Removed,
  Renamed
};
/// As JSON and tables have it.
[[nodiscard]] std::string_view tree_change_name(TreeChangeKind kind);

struct TreeChange {
  TreeChangeKind kind = TreeChangeKind::Content;
  std::string place;   ///< where in the ramdisk
  std::string detail;  ///< e.g. "mode 0644 -> 0755"
};

struct AppliedTree {
  std::vector<TreeChange> changes;
  std::vector<std::string> notes;  ///< sentences for the user
};

/// Brings the ramdisk to what folder and list say; entries that did not change keep their every
/// byte. Errors: BadValue (a line of the list, by number), NotFound, UnsafePath, Io.
[[nodiscard]] Result<AppliedTree> apply_tree(Ramdisk& ramdisk, const TreePaths& paths);

}  // namespace wexlo::parts
