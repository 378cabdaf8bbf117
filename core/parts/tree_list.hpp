#pragma once
/// tree.list: one line an entry, in the archive's order.

#include <map>
#include <string>
#include <vector>

#include "ramdisk/ramdisk.hpp"

namespace wexlo::parts {

/// A line `TYPE MODE UID GID MTIME DEVICE NAME [-> TARGET] [= ODD-FILE] [== LINKED-NAME]`, or
/// `end` for an archive's trailer, or `stream COMPRESSION` before each stream's entries.
struct ListRow {
  std::string type;  ///< f d l c b p s, or "end", "stream"
  std::uint32_t mode = 0, uid = 0, gid = 0, mtime = 0, major = 0, minor = 0;  ///< mode: 12 bits
  std::string name;       ///< as spelled in the archive; for "stream": the compression
  std::string target;     ///< symlinks
  std::string odd;        ///< file in tree.odd/ that holds the content, when it cannot be in tree/
  std::string linked;     ///< a hard link whose content stands under this name
  bool replaced = false;  ///< a later entry has the same place; not read from a list
  std::size_t line = 0;   ///< in the file, from 1

  /// The columns that describe the entry itself.
  [[nodiscard]] bool same_attributes(const ListRow& other) const;
};

/// The rows of a ramdisk, with where each content goes. Deterministic.
[[nodiscard]] std::vector<ListRow> rows_of(const Ramdisk& ramdisk);
[[nodiscard]] std::string format_rows(const std::vector<ListRow>& rows);
/// Errors: BadValue with the line's number.
[[nodiscard]] Result<std::vector<ListRow>> parse_rows(std::string_view text);

[[nodiscard]] std::uint32_t type_bits(std::string_view type);  ///< 0 when it is no type

}  // namespace wexlo::parts
