#pragma once
/// Colours and tables for a terminal, and the one place where text for people goes out. Nothing is
/// told by colour alone.

#include <iosfwd>
#include <string>
#include <string_view>
#include <vector>

namespace wexlo::cli {

/// Colours are marks that no file can hold, until `print` turns them into the terminal's own: names
/// and texts from a file can say nothing to the terminal.
struct Paint {
  bool on = false;
  std::size_t columns = 0;  ///< of the terminal; 0: lines are as long as they are
  [[nodiscard]] std::string heading(std::string_view text) const { return wrap("1", text); }
  [[nodiscard]] std::string faint(std::string_view text) const { return wrap("2", text); }
  [[nodiscard]] std::string good(std::string_view text) const { return wrap("32", text); }
  [[nodiscard]] std::string warning(std::string_view text) const { return wrap("33", text); }
  [[nodiscard]] std::string bad(std::string_view text) const { return wrap("1;31", text); }

 private:
  [[nodiscard]] std::string wrap(std::string_view code, std::string_view text) const;
};

/// Text with its marks of colour; other control bytes and what is no UTF-8 become `\xNN`. Line ends
/// stay.
void print(std::ostream& out, std::string_view text);

/// For pages of sentences: 80 columns, less on a narrower terminal.
[[nodiscard]] std::size_t page_width(const Paint& paint);

/// Columns on the screen: UTF-8 continuation bytes and colours take none.
[[nodiscard]] std::size_t width(std::string_view text);

/// Lines that are longer than the terminal is wide, parted at blanks; what goes on stands in. 0
/// columns: as it is.
[[nodiscard]] std::string fold(std::string_view text, std::size_t columns);

/// Columns that line up, and fold where the terminal is too narrow for them. A heading that begins
/// with `>` makes its column flush right, and never folds; `~`: its cells are cut. Without headings
/// there is no first line.
class Table {
 public:
  explicit Table(std::vector<std::string> headings) : headings_(std::move(headings)) {}
  /// Cells are cleaned: one that holds a line end would break the table. @param lead  stands in
  /// the first column of lines that go on: the lines of a tree
  void row(std::vector<std::string> cells, std::string lead = {});
  [[nodiscard]] bool empty() const { return rows_.empty(); }
  [[nodiscard]] std::string text(const Paint& paint, std::string_view indent = "  ") const;

 private:
  struct Row {
    std::vector<std::string> cells;
    std::string lead;
  };
  [[nodiscard]] std::string title(std::size_t i) const;
  [[nodiscard]] std::size_t longest_word(std::size_t column) const;
  [[nodiscard]] std::vector<std::size_t> widths(std::size_t columns, std::size_t indent) const;

  std::vector<std::string> headings_;
  std::vector<Row> rows_;
};

}  // namespace wexlo::cli
