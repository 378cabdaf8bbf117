/// Writing a ramdisk out as a tree and its list.

#include "base/output.hpp"
#include "parts/tree.hpp"
#include "parts/tree_disk.hpp"
#include "parts/tree_list.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

Status make_folder(const fs::path& path) {
  std::error_code error;
  fs::create_directories(path, error);
  if (error) return fail(io_error(error.value(), "cannot make the folder", path.string()));
  return {};
}

/// So that a mode changed there is seen as a change; a file system without modes is no failure.
void set_mode(const fs::path& path, const ListRow& row) {
  std::error_code ignored;
  fs::permissions(path, static_cast<fs::perms>(disk_mode(row)), ignored);
}

}  // namespace

Status write_tree(const Ramdisk& ramdisk, const TreePaths& paths) {
  WEXLO_CHECK(check_places(ramdisk));
  const auto rows = rows_of(ramdisk);
  WEXLO_CHECK(make_folder(paths.tree));
  std::size_t segment = 0, index = 0;
  for (const ListRow& row : rows) {
    if (row.type == "stream") {
      if (&row != rows.data()) ++segment;
      index = 0;
      continue;
    }
    const EntryAt at{segment, index++};
    const fs::path place = paths.tree / newc::place_of(row.name);
    if (row.type == "d" && row.odd.empty()) WEXLO_CHECK(make_folder(place));
    if (row.type != "f" || !row.linked.empty()) continue;
    const fs::path file = row.odd.empty() ? place : paths.odd / row.odd;
    WEXLO_CHECK(make_folder(file.parent_path()));
    WEXLO_CHECK(write_new(file, entry_at(ramdisk, at).data().view()));
    set_mode(file, row);
  }
  // Folders last: one that only its owner may enter is no hindrance then.
  for (const ListRow& row : rows)
    if (row.type == "d" && row.odd.empty()) set_mode(paths.tree / newc::place_of(row.name), row);
  return write_new(paths.list, as_view(format_rows(rows)));
}

}  // namespace wexlo::parts
