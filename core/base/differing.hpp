#pragma once
/// Where two pieces of bytes differ.

#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

struct DifferentPlace {
  std::uint64_t offset = 0, size = 0;
};

/// By offset; each differing byte lies in one. Bytes that only the longer one has are a place of
/// their own, the last. Close places are one: so much closer than a few bytes that there are at
/// most `most` of them, the last not counted.
[[nodiscard]] std::vector<DifferentPlace> differing(View a, View b, std::size_t most);

}  // namespace wexlo
