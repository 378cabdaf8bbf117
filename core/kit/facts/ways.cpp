#include "kit/facts/ways.hpp"

#include <array>

#include "base/word_table.hpp"

namespace wexlo {
namespace {

constexpr std::array<std::string_view, 3> kNeeds{"", "unlocked", "own-key"};

}  // namespace

std::optional<Slots> slots_of(std::string_view word) {
  if (word == "both") return Slots::Both;
  return word == "current" ? std::optional(Slots::Current) : std::nullopt;
}

std::string_view needs_word(Needs needs) {
  return kNeeds[static_cast<std::size_t>(needs)];
}

std::optional<Needs> needs_of(std::string_view word) {
  return of_word<Needs>(kNeeds, word);
}

}  // namespace wexlo
