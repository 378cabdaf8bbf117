#pragma once
/// Words of an enum: one table, read both ways.

#include <algorithm>
#include <array>
#include <optional>
#include <string_view>

namespace wexlo {

/// The enumerator that a word stands for; nullopt: the table does not have it.
/// @param words  in the order of the enum, which begins at 0
template <class E, std::size_t N>
[[nodiscard]] std::optional<E> of_word(const std::array<std::string_view, N>& words,
                                       std::string_view word) {
  const auto at = std::ranges::find(words, word);
  if (at == words.end()) return std::nullopt;
  return static_cast<E>(at - words.begin());
}

}  // namespace wexlo
