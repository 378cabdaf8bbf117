#include "text/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

namespace wexlo {
namespace {

bool is_plain(unsigned char c) {
  return c >= 0x20 && c < 0x7f;
}

/// Length of the UTF-8 sequence at the start of `text`, 0 when it is not a valid one.
std::size_t utf8_length(std::string_view text) {
  const auto lead = static_cast<unsigned char>(text[0]);
  const std::size_t length = lead < 0x80                   ? 1
                             : lead >= 0xf0 && lead < 0xf5 ? 4
                             : lead >= 0xe0 && lead < 0xf0 ? 3
                             : lead >= 0xc2 && lead < 0xe0 ? 2
                                                           : 0;
  if (length == 0 || text.size() < length) return 0;
  for (std::size_t i = 1; i < length; ++i)
    if ((static_cast<unsigned char>(text[i]) & 0xc0) != 0x80) return 0;
  // Longer than it need be, half of a pair, or beyond the last character.
  const unsigned char second = length > 1 ? static_cast<unsigned char>(text[1]) : 0;
  if ((lead == 0xe0 && second < 0xa0) || (lead == 0xed && second > 0x9f) ||
      (lead == 0xf0 && second < 0x90) || (lead == 0xf4 && second > 0x8f))
    return 0;
  return length;
}

/// U+0080 to U+009F: terminals take some of them for commands.
bool is_control_pair(std::string_view text) {
  return static_cast<unsigned char>(text[0]) == 0xc2 && text.size() > 1 &&
         static_cast<unsigned char>(text[1]) < 0xa0;
}

std::string toml_escaped(char c) {
  if (c == '"' || c == '\\') return fmt::format("\\{}", c);
  if (is_plain(static_cast<unsigned char>(c))) return {c};
  return fmt::format("\\u{:04X}", static_cast<unsigned char>(c));
}

}  // namespace

std::string toml_quote(std::string_view text) {
  std::string out = "\"";
  for (const char c : text)
    out += toml_escaped(c);
  return out + "\"";
}

std::string toml_quote_utf8(std::string_view text) {
  std::string out = "\"";
  while (!text.empty()) {
    const std::size_t length = utf8_length(text);
    const std::size_t taken = std::max<std::size_t>(length, 1);
    if (length == 0)
      out += "\xef\xbf\xbd";  // U+FFFD
    else if (length > 1)
      out += text.substr(0, length);
    else
      out += toml_escaped(text[0]);
    text.remove_prefix(taken);
  }
  return out + "\"";
}

bool is_utf8(std::string_view text) {
  while (!text.empty()) {
    const std::size_t length = utf8_length(text);
    if (length == 0) return false;
    text.remove_prefix(length);
  }
  return true;
}

bool is_ascii(std::string_view text) {
  return std::ranges::all_of(text, [](unsigned char c) { return c < 0x80; });
}

std::string percent_encode(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (is_plain(static_cast<unsigned char>(c)) && c != ' ' && c != '%')
      out += c;
    else
      out += fmt::format("%{:02X}", static_cast<unsigned char>(c));
  }
  return out;
}

Result<std::string> percent_decode(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      out += text[i];
      continue;
    }
    unsigned value = 0;
    const char* begin = text.data() + i + 1;
    const char* end = text.data() + std::min(text.size(), i + 3);
    if (const auto got = std::from_chars(begin, end, value, 16);
        got.ec != std::errc() || got.ptr != begin + 2)
      return fail({.code = ErrorCode::BadValue,
                   .message = "a % is not followed by two hex digits",
                   .found = std::string(text)});
    out += static_cast<char>(value);
    i += 2;
  }
  return out;
}

std::vector<std::string_view> split_words(std::string_view text) {
  constexpr std::string_view kBlanks = " \t\r\n";
  std::vector<std::string_view> words;
  while (true) {
    text.remove_prefix(std::min(text.find_first_not_of(kBlanks), text.size()));
    if (text.empty()) return words;
    const std::size_t end = std::min(text.find_first_of(kBlanks), text.size());
    words.push_back(text.substr(0, end));
    text.remove_prefix(end);
  }
}

std::string_view trimmed(std::string_view text) {
  constexpr std::string_view kBlanks = " \t\r\n";
  const std::size_t begin = text.find_first_not_of(kBlanks);
  if (begin == text.npos) return {};
  return text.substr(begin, text.find_last_not_of(kBlanks) - begin + 1);
}

std::string lower_case(std::string_view text) {
  std::string out(text);
  for (char& c : out)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  return out;
}

bool ends_as(std::string_view text, std::string_view end) {
  return text.size() >= end.size() && lower_case(text.substr(text.size() - end.size())) == end;
}

std::string shell_word(std::string_view text) {
  const bool plain = !text.empty() && std::ranges::all_of(text, [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
           std::string_view("/._-+:=@,%").find(c) != std::string_view::npos;
  });
  if (plain) return std::string(text);
  std::string out = "'";
  for (const char c : text)
    out += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return out + "'";
}

std::string human_size(std::uint64_t bytes) {
  constexpr std::array units{"B", "KiB", "MiB", "GiB", "TiB"};
  auto value = static_cast<double>(bytes);
  std::size_t unit = 0;
  while (value >= 1024 && unit + 1 < units.size()) {
    value /= 1024;
    ++unit;
  }
  return unit == 0 ? fmt::format("{} B", bytes) : fmt::format("{:.1f} {}", value, units[unit]);
}

std::string printable(std::string_view text) {
  std::string out;
  while (!text.empty()) {
    const std::size_t length = std::max<std::size_t>(utf8_length(text), 1);
    const std::string_view one = text.substr(0, length);
    const auto c = static_cast<unsigned char>(one[0]);
    if (utf8_length(text) == 0 || (length == 1 && !is_plain(c)) || is_control_pair(one))
      for (const char byte : one)
        out += fmt::format("\\x{:02x}", static_cast<unsigned char>(byte));
    else
      out += one;
    text.remove_prefix(length);
  }
  return out;
}

std::string printable_lines(std::string_view text) {
  std::string out;
  for (;;) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    out += printable(text.substr(0, end));
    if (end == text.size()) return out;
    out += '\n';
    text.remove_prefix(end + 1);
  }
}

std::string counted(std::uint64_t count, std::string_view what) {
  return fmt::format("{} {}{}", count, what, count == 1 ? "" : "s");
}

namespace {

bool is_marked_hex(std::string_view text) {
  return text.starts_with("0x") || text.starts_with("0X");
}

std::optional<std::uint64_t> in_base(std::string_view digits, int base) {
  std::uint64_t value = 0;
  const char* const stop = digits.data() + digits.size();
  const auto [end, bad] = std::from_chars(digits.data(), stop, value, base);
  if (bad != std::errc() || end != stop) return std::nullopt;
  return value;
}

}  // namespace

std::optional<std::uint64_t> parse_number(std::string_view text) {
  return is_marked_hex(text) ? in_base(text.substr(2), 16) : in_base(text, 10);
}

std::optional<std::uint64_t> parse_hex(std::string_view text) {
  return in_base(is_marked_hex(text) ? text.substr(2) : text, 16);
}

std::string markup_text(std::string_view text) {
  std::string out;
  for (const char c : printable(text))
    switch (c) {
      case '&': out += "&amp;"; break;
      case '<': out += "&lt;"; break;
      case '>': out += "&gt;"; break;
      case '"': out += "&quot;"; break;
      default: out += c;
    }
  return out;
}

}  // namespace wexlo
