#pragma once
/// Sentences in lines of a bounded width, for plain text pages.

#include <string>
#include <string_view>

namespace wexlo {

/// Words in lines of at most `width` columns, each line behind `indent` (the first one behind
/// `first`); ends with a line end. A word that is longer stands alone on its line.
[[nodiscard]] std::string filled(std::string_view text, std::size_t width, std::string_view indent,
                                 std::string_view first);
[[nodiscard]] inline std::string filled(std::string_view text, std::size_t width,
                                        std::string_view indent = {}) {
  return filled(text, width, indent, indent);
}

/// Columns that a text takes: its bytes without UTF-8's continuation bytes.
[[nodiscard]] std::size_t columns_of(std::string_view text);

}  // namespace wexlo
