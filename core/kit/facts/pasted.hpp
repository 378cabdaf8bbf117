#pragma once
/// Text as it is pasted from a phone: its lines, and what a line says.

#include <optional>
#include <string>
#include <string_view>
#include <utility>

namespace wexlo {

/// A console's redirection may have written two bytes a character; what is not ASCII in those is
/// `?`. Other text is as it was, without a byte order mark.
[[nodiscard]] std::string in_ascii(std::string_view text);

/// Name and value of a line, whatever form it has: `[name]: [value]`, `name=value`, `name: value`,
/// `(word) name: value`. Empty: it has none.
[[nodiscard]] std::pair<std::string, std::string> name_and_value(std::string_view line);

/// What a property of a running system, or a variable of a bootloader, says of a phone.
struct PropertyFact {
  std::string_view key;  ///< of sheet_keys()
  std::string value;     ///< in the sheet's own words; empty: it says nothing
  std::size_t rank = 0;  ///< of several that say the same, the lowest is believed
};
/// nullopt: it is none that a sheet is made of.
[[nodiscard]] std::optional<PropertyFact> property_fact(std::string_view name,
                                                        std::string_view value);

}  // namespace wexlo
