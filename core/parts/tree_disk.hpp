#pragma once
/// What stands in tree/, as the host's file system has it.

#include <filesystem>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "parts/tree_list.hpp"

namespace wexlo::parts {

struct DiskFile {
  std::filesystem::path path;
  std::uint32_t mode = 0;  ///< 9 permission bits
};

/// Links are not followed.
struct OnDisk {
  std::map<std::string, std::uint32_t> folders;  ///< place -> permission bits
  std::map<std::string, DiskFile> files;
  std::map<std::string, std::string> links;
};
/// Errors: Unsupported (neither a file, a folder nor a link), Io.
[[nodiscard]] Result<OnDisk> scan_tree(const std::filesystem::path& tree);

/// The permission bits that an entry is written out with: its own, and enough for the owner to
/// edit it.
[[nodiscard]] std::uint32_t disk_mode(const ListRow& row);

/// Whether the folder's file system (or the way it was copied) kept permission bits: most listed
/// files and folders have theirs.
[[nodiscard]] bool keeps_modes(const OnDisk& disk, const std::vector<ListRow>& rows);

/// The 12 mode bits an entry gets from the disk, where they were changed there; else its own.
/// @param rewritten  its content changed too: an editor may have made a new file with usual bits
[[nodiscard]] std::uint32_t mode_from_disk(const ListRow& row, std::uint32_t actual,
                                           bool rewritten);

/// Files of the list that are gone from the disk while a file nobody listed has their content:
/// line of the list -> the new place.
[[nodiscard]] std::map<std::size_t, std::string> find_renames(const OnDisk& disk,
                                                              const std::vector<ListRow>& rows,
                                                              const Ramdisk& stock);

}  // namespace wexlo::parts
