#pragma once
/// Listings that stay valid when a file of their package is replaced: digests and sizes in the
/// text, wherever they stand; every other byte stays.

#include <string>
#include <string_view>
#include <vector>

#include "base/digest.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

/// A file of a package before and after.
struct FileChange {
  std::string name;  ///< without its folders
  std::uint64_t old_size = 0, new_size = 0;
  /// Digests of both, lower-case hex, of each kind that texts may hold.
  std::vector<std::pair<std::string, std::string>> digests;
};

/// Counts the digests of those kinds. Errors: those of reading, Interrupted.
[[nodiscard]] Result<FileChange> compare_files(const std::string& name, const Source& before,
                                               const Source& after,
                                               const std::vector<DigestKind>& kinds,
                                               const Context& context);

/// The kinds of digests that a text may hold, by the lengths of its words of hex digits.
[[nodiscard]] std::vector<DigestKind> digest_kinds_in(std::string_view text);

struct Relisted {
  std::string text;
  std::size_t digests = 0, sizes = 0;  ///< replaced
};
/// Replaces the old digests of the files. A digest that stands in the record of a file which did
/// not change is left: two files may have been the same. Sizes are replaced in the record that
/// names the file: its line, or the XML element around its name.
/// @param others  names of files that did not change
[[nodiscard]] Relisted relist(std::string_view text, const std::vector<FileChange>& changes,
                              const std::vector<std::string>& others);

}  // namespace wexlo
