/// The registry of findings: one row for each code.

#include <algorithm>
#include <array>

#include "base/finding_rows_kit.hpp"
#include "base/finding_rows_start.hpp"

namespace wexlo {
namespace {

using finding_rows::kKitRows;
using finding_rows::kStartRows;

constexpr auto all_kinds() {
  std::array<FindingKind, std::size(kStartRows) + std::size(kKitRows)> out{};
  std::ranges::copy(kKitRows, std::ranges::copy(kStartRows, out.begin()).out);
  return out;
}
constexpr auto kKinds = all_kinds();

constexpr bool in_order() {
  for (std::size_t i = 0; i < std::size(kKinds); ++i)
    if (static_cast<std::size_t>(kKinds[i].code) != i) return false;
  return static_cast<std::size_t>(FindingCode::AddOnForThisMachine) + 1 == std::size(kKinds);
}
static_assert(in_order(), "one row for each code, in their order");

}  // namespace

std::span<const FindingKind> finding_kinds() {
  return kKinds;
}

}  // namespace wexlo
