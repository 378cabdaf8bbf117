#pragma once
/// What a mistyped word was meant to be: for "did you mean" in errors.

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace wexlo {

/// Single-character slips between two words: one added, left out, other, or two changed about.
/// Letters count without their case.
[[nodiscard]] std::size_t slips_between(std::string_view one, std::string_view other);

/// The candidate that `word` most likely stands for: few slips apart for its length, or the only
/// one that begins with it. nullopt: none is near, or `word` is one of them.
[[nodiscard]] std::optional<std::string> nearest(std::string_view word,
                                                 std::span<const std::string> candidates);

/// `Did you mean "boot"? `, or nothing: to stand before an error's other advice.
[[nodiscard]] std::string did_you_mean(std::string_view word,
                                       std::span<const std::string> candidates);

}  // namespace wexlo
