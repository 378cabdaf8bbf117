#pragma once
/// Where in a text document a byte lies, as a person finds it: the line, and what the line is in.

#include <cstdint>
#include <string>
#include <string_view>

namespace wexlo {

/// "line 12, in [images]", "line 40, images[1].flash.sha256". Of JSON it is the value's place, of
/// TOML the table, of HTML the heading above; of others the line alone.
/// @param name  the file's, whose ending says what it is  @param offset  bytes from the start
[[nodiscard]] std::string text_place(std::string_view text, std::uint64_t offset,
                                     std::string_view name);
/// The line that a byte lies in, without its end; long ones are cut around the byte.
[[nodiscard]] std::string line_around(std::string_view text, std::uint64_t offset);

}  // namespace wexlo
