#include "base/differing.hpp"

#include <algorithm>
#include <cstring>

namespace wexlo {

std::size_t next_difference(View a, View b, std::size_t at) {
  // Long equal stretches are stepped over a block at a time.
  constexpr std::size_t kBlock = 4096;
  while (a.size() - at >= kBlock && std::memcmp(a.data() + at, b.data() + at, kBlock) == 0)
    at += kBlock;
  const auto from = static_cast<std::ptrdiff_t>(at);
  return static_cast<std::size_t>(std::mismatch(a.begin() + from, a.end(), b.begin() + from).first -
                                  a.begin());
}

std::vector<DifferentPlace> differing(View a, View b, std::size_t gap) {
  std::vector<DifferentPlace> out;
  for (std::size_t at = next_difference(a, b, 0); at < a.size();
       at = next_difference(a, b, at + 1)) {
    if (!out.empty() && at - (out.back().offset + out.back().size) < gap)
      out.back().size = at + 1 - out.back().offset;
    else
      out.push_back({at, 1});
  }
  return out;
}

std::vector<DifferentPlace> differing_at_most(View a, View b, std::size_t most) {
  constexpr std::size_t kSmallestGap = 8;
  const std::size_t common = std::min(a.size(), b.size());
  const View left = a.first(common), right = b.first(common);
  std::vector<DifferentPlace> out = differing(left, right, kSmallestGap);
  for (std::size_t gap = kSmallestGap * 4; out.size() > most; gap *= 4)
    out = differing(left, right, gap);
  if (a.size() != b.size()) out.push_back({common, std::max(a.size(), b.size()) - common});
  return out;
}

}  // namespace wexlo
