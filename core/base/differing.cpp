#include "base/differing.hpp"

#include <algorithm>

namespace wexlo {
namespace {

constexpr std::size_t kSmallestGap = 8;  ///< bytes that stay the same between two places

std::vector<DifferentPlace> joined(View a, View b, std::size_t gap) {
  std::vector<DifferentPlace> out;
  for (std::size_t at = 0; at < a.size(); ++at) {
    const auto from = static_cast<std::ptrdiff_t>(at);
    at = static_cast<std::size_t>(std::mismatch(a.begin() + from, a.end(), b.begin() + from).first -
                                  a.begin());
    if (at == a.size()) break;
    if (!out.empty() && at - (out.back().offset + out.back().size) < gap)
      out.back().size = at + 1 - out.back().offset;
    else
      out.push_back({at, 1});
  }
  return out;
}

}  // namespace

std::vector<DifferentPlace> differing(View a, View b, std::size_t most) {
  const std::size_t common = std::min(a.size(), b.size());
  std::size_t gap = kSmallestGap;
  std::vector<DifferentPlace> out = joined(a.first(common), b.first(common), gap);
  while (out.size() > most)
    out = joined(a.first(common), b.first(common), gap *= 4);
  if (a.size() != b.size()) out.push_back({common, std::max(a.size(), b.size()) - common});
  return out;
}

}  // namespace wexlo
