#include <algorithm>

#include "support/check.hpp"

namespace wexlo::test {

void check_same(View got, View wanted) {
  CHECK(got.size() == wanted.size());
  const auto [a, b] = std::ranges::mismatch(got, wanted);
  if (a == got.end() && b == wanted.end()) return;
  const auto at = static_cast<std::size_t>(a - got.begin());
  const std::size_t begin = at < 16 ? 0 : at - 16;
  const auto around = [&](View side) {
    return hex(side.subspan(std::min(begin, side.size()),
                            std::min<std::size_t>(48, side.size() - std::min(begin, side.size()))));
  };
  FAIL_CHECK("first difference at ", at, "\n got    ", around(got), "\n wanted ", around(wanted));
}

}  // namespace wexlo::test
