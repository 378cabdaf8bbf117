#include "text/nearest.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "text/text.hpp"

namespace wexlo {
namespace {

/// A word from a file or a command line that is longer than this is no slip of a name.
constexpr std::size_t kLongest = 200;

/// How many slips still leave the word recognisable.
std::size_t slips_allowed(std::size_t length) {
  if (length <= 2) return length == 2 ? 1 : 0;
  return length <= 5 ? 1 : length <= 8 ? 2 : 3;
}

/// Not a slip, but begun: "init" for init_boot, where nothing else begins so. nullptr: none, or
/// several do.
const std::string* only_one_begun(std::string_view word, std::span<const std::string> candidates) {
  constexpr std::size_t kEnough = 3;
  if (word.size() < kEnough) return nullptr;
  const std::string start = lower_case(word);
  const std::string* out = nullptr;
  for (const std::string& one : candidates) {
    if (!lower_case(one).starts_with(start)) continue;
    if (out != nullptr) return nullptr;
    out = &one;
  }
  return out;
}

}  // namespace

std::size_t slips_between(std::string_view one, std::string_view other) {
  const std::string a = lower_case(one), b = lower_case(other);
  // Three rows of the usual table: two characters changed about look two rows back.
  std::vector<std::size_t> before, above(b.size() + 1), row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j)
    above[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t same = a[i - 1] == b[j - 1] ? 0 : 1;
      row[j] = std::min({above[j] + 1, row[j - 1] + 1, above[j - 1] + same});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        row[j] = std::min(row[j], before[j - 2] + 1);
    }
    before = above;
    above = row;
  }
  return above[b.size()];
}

std::optional<std::string> nearest(std::string_view word, std::span<const std::string> candidates) {
  if (word.empty() || word.size() > kLongest) return std::nullopt;
  const std::string* best = nullptr;
  std::size_t least = slips_allowed(word.size()) + 1;
  for (const std::string& one : candidates) {
    if (one == word) return std::nullopt;
    if (one.size() > kLongest) continue;
    const std::size_t slips = slips_between(word, one);
    if (slips >= least) continue;
    least = slips;
    best = &one;
  }
  const std::string* const begun = least > 1 ? only_one_begun(word, candidates) : nullptr;
  if (begun != nullptr) return *begun;
  return best == nullptr ? std::nullopt : std::optional(*best);
}

std::string did_you_mean(std::string_view word, std::span<const std::string> candidates) {
  const auto meant = nearest(word, candidates);
  return meant ? fmt::format("Did you mean \"{}\"? ", *meant) : std::string();
}

}  // namespace wexlo
