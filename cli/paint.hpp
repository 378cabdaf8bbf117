#pragma once
/// Colours and tables for a terminal. Nothing is told by colour alone.

#include <string>
#include <string_view>
#include <vector>

namespace wexlo::cli {

struct Paint {
  bool on = false;
  [[nodiscard]] std::string heading(std::string_view text) const { return wrap("1", text); }
  [[nodiscard]] std::string faint(std::string_view text) const { return wrap("2", text); }
  [[nodiscard]] std::string good(std::string_view text) const { return wrap("32", text); }
  [[nodiscard]] std::string warning(std::string_view text) const { return wrap("33", text); }
  [[nodiscard]] std::string bad(std::string_view text) const { return wrap("1;31", text); }

 private:
  [[nodiscard]] std::string wrap(std::string_view code, std::string_view text) const {
    if (!on) return std::string(text);
    return "\033[" + std::string(code) + "m" + std::string(text) + "\033[0m";
  }
};

/// Columns on the screen: UTF-8 continuation bytes and colours take none.
[[nodiscard]] std::size_t width(std::string_view text);

/// Columns that line up. A heading that begins with `>` makes its column flush right.
class Table {
 public:
  explicit Table(std::vector<std::string> headings) : headings_(std::move(headings)) {}
  void row(std::vector<std::string> cells) { rows_.push_back(std::move(cells)); }
  [[nodiscard]] bool empty() const { return rows_.empty(); }
  [[nodiscard]] std::string text(const Paint& paint, std::string_view indent = "  ") const;

 private:
  std::vector<std::string> headings_;
  std::vector<std::vector<std::string>> rows_;
};

}  // namespace wexlo::cli
