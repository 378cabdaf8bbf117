#pragma once
/// Where two pieces of bytes differ.

#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

struct DifferentPlace {
  std::uint64_t offset = 0, size = 0;
};

/// The first byte from `at` on that differs. Precondition: both have one size, which is the result
/// where none does.
[[nodiscard]] std::size_t next_difference(View a, View b, std::size_t at);

/// By offset; each differing byte lies in one. Places are one where fewer than `gap` equal bytes
/// stand between them. Precondition: both have one size.
[[nodiscard]] std::vector<DifferentPlace> differing(View a, View b, std::size_t gap);

/// The same for pieces of any size: what only the longer one has is the last place. As many bytes
/// may stand between two of the others as it takes to have at most `most` of them.
[[nodiscard]] std::vector<DifferentPlace> differing_at_most(View a, View b, std::size_t most);

}  // namespace wexlo
