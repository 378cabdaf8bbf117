#pragma once
/// Lines of words in listings, scripts and texts: commands that write, tables, lists of digests. A
/// text that people read names files, too; only a command or a table says what a file is for.

#include <functional>

#include "firmware/listing_row.hpp"

namespace wexlo::listing {

using IsFile = std::function<bool(std::string_view)>;

/// The line without what a script writes for its own folder: `%~dp0`, `$(dirname "$0")/` and the
/// like.
[[nodiscard]] std::string without_own_folder(std::string_view line);

/// What a line of a script or of a text commands to be written: `… flash boot images/boot.img`.
/// @param script  the whole file is commands; else the line has to look like one
[[nodiscard]] std::vector<ListingRow> command_rows(std::string_view line, bool script,
                                                   const IsFile& is_file);

/// Neighbouring lines of columns. Three with the same columns make a table: the word before the
/// file is its partition. Fewer tell digests and places alone.
class TableLines {
 public:
  /// @param by  who promises the digests
  TableLines(std::string by, const IsFile& is_file) : by_(std::move(by)), is_file_(is_file) {}
  /// A line without a file ends the table before it.
  void add(std::string_view line);
  void end_of_table();
  /// Precondition: end_of_table.
  [[nodiscard]] std::vector<ListingRow> take() { return std::move(rows_); }

 private:
  struct Line {
    std::vector<std::string> words;
    std::size_t file = 0;  ///< its column
    std::string path;
    std::vector<Promise> promises;
    std::vector<std::uint64_t> numbers;  ///< behind the file
  };
  [[nodiscard]] std::optional<Line> read(std::string_view line) const;
  [[nodiscard]] std::optional<std::size_t> partition_column() const;

  std::string by_;
  const IsFile& is_file_;
  std::vector<Line> table_;  ///< lines so far, of the same columns
  std::vector<ListingRow> rows_;
};

}  // namespace wexlo::listing
