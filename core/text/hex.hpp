#pragma once
/// Bytes written as pairs of hex digits.

#include <optional>

#include "base/bytes.hpp"

namespace wexlo {

/// nullopt: another character, or half a pair.
[[nodiscard]] std::optional<Bytes> bytes_of_hex(std::string_view text);

}  // namespace wexlo
