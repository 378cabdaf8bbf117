#include "text/hex.hpp"

#include <charconv>

namespace wexlo {

std::optional<Bytes> bytes_of_hex(std::string_view text) {
  if (text.size() % 2 != 0) return std::nullopt;
  Bytes out;
  out.reserve(text.size() / 2);
  for (std::size_t i = 0; i < text.size(); i += 2) {
    std::uint8_t value = 0;
    const char* const end = text.data() + i + 2;
    const auto [at, bad] = std::from_chars(text.data() + i, end, value, 16);
    if (bad != std::errc() || at != end) return std::nullopt;
    out.push_back(static_cast<std::byte>(value));
  }
  return out;
}

}  // namespace wexlo
