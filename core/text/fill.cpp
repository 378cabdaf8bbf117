#include "text/fill.hpp"

#include <algorithm>

#include "text/text.hpp"

namespace wexlo {

std::size_t columns_of(std::string_view text) {
  return static_cast<std::size_t>(std::ranges::count_if(
      text, [](char one) { return (static_cast<unsigned char>(one) & 0xc0) != 0x80; }));
}

std::string filled(std::string_view text, std::size_t width, std::string_view indent,
                   std::string_view first) {
  std::string out, line(first);
  bool empty = true;  // no word on the line yet
  for (const std::string_view word : split_words(text)) {
    if (!empty && columns_of(line) + 1 + columns_of(word) > width) {
      out += line + "\n";
      line = indent;
      empty = true;
    }
    if (!empty) line += ' ';
    line += word;
    empty = false;
  }
  line.erase(line.find_last_not_of(' ') + 1);
  return out + line + "\n";
}

}  // namespace wexlo
