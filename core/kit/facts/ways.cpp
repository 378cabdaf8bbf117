#include "kit/facts/ways.hpp"

#include <algorithm>
#include <array>

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
  const auto at = std::ranges::find(kNeeds, word);
  if (at == kNeeds.end()) return std::nullopt;
  return static_cast<Needs>(at - kNeeds.begin());
}

}  // namespace wexlo
