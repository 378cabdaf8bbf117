#pragma once
/// Text forms shared by the files that Wexlo writes.

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

/// A TOML basic string with its quotes; bytes that are not printable ASCII are escaped, so that any
/// bytes below 0x80 survive. Bytes from 0x80 have to be kept from it by the caller.
[[nodiscard]] std::string toml_quote(std::string_view text);
/// The same for what people typed: characters of UTF-8 stand as they are, other bytes become
/// U+FFFD.
[[nodiscard]] std::string toml_quote_utf8(std::string_view text);
[[nodiscard]] bool is_ascii(std::string_view text);
[[nodiscard]] bool is_utf8(std::string_view text);

/// Bytes that are blank, `%` or not printable ASCII become %XX: one word, whatever was in it.
[[nodiscard]] std::string percent_encode(std::string_view text);
/// Errors: BadValue (a `%` without two hex digits behind it).
[[nodiscard]] Result<std::string> percent_decode(std::string_view text);

/// A word of a command line, quoted for a shell where it has to be.
[[nodiscard]] std::string shell_word(std::string_view text);

/// The words of a line or text, parted by blanks, tabs and line ends; views into `text`.
[[nodiscard]] std::vector<std::string_view> split_words(std::string_view text);

/// Without blanks, tabs and line ends on both sides; a view into `text`.
[[nodiscard]] std::string_view trimmed(std::string_view text);

/// A to Z as a to z, whatever the system's language is.
[[nodiscard]] std::string lower_case(std::string_view text);
/// Whether a text ends so, whatever the case of its letters. @param end  in small letters
[[nodiscard]] bool ends_as(std::string_view text, std::string_view end);

/// `12.3 MiB`, `512 B`: for people.
[[nodiscard]] std::string human_size(std::uint64_t bytes);

/// "1 place", "3 places".
[[nodiscard]] std::string counted(std::uint64_t count, std::string_view what);

/// Decimal, or hexadecimal behind 0x; nullopt: anything else, or too large.
[[nodiscard]] std::optional<std::uint64_t> parse_number(std::string_view text);

/// Hexadecimal, with or without 0x in front: bootloaders tell sizes so. nullopt: anything else, or
/// too large.
[[nodiscard]] std::optional<std::uint64_t> parse_hex(std::string_view text);

/// Text made safe to show, with the marks of XML and HTML written out.
[[nodiscard]] std::string markup_text(std::string_view text);

/// Text made safe to show on a terminal: control bytes and invalid UTF-8 become `\xNN`.
[[nodiscard]] std::string printable(std::string_view text);
/// The same for a text of several lines: line ends stay.
[[nodiscard]] std::string printable_lines(std::string_view text);

}  // namespace wexlo
