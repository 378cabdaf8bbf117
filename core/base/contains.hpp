#pragma once
/// std::ranges::contains, which the library of GCC 12 lacks.

#include <algorithm>
#include <functional>

namespace wexlo {

template <class Range, class Value, class Projection = std::identity>
[[nodiscard]] constexpr bool contains(const Range& range, const Value& value,
                                      Projection projection = {}) {
  return std::ranges::find(range, value, projection) != std::ranges::end(range);
}

}  // namespace wexlo
