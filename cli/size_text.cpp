#include "size_text.hpp"

#include <algorithm>
#include <cctype>
#include <string>

#include "text/text.hpp"

namespace wexlo::cli {

std::optional<std::uint64_t> size_from(std::string_view text, std::uint64_t most) {
  constexpr std::string_view kUnits = "KMGT";
  std::string upper(text);
  std::ranges::transform(upper, upper.begin(), [](unsigned char c) { return std::toupper(c); });
  // In a hexadecimal number a B at the end is a digit.
  if (!upper.starts_with("0X"))
    for (const std::string_view end : {"IB", "B"})
      if (upper.ends_with(end)) upper.resize(upper.size() - end.size());
  std::uint64_t unit = 1;
  if (!upper.empty())
    if (const std::size_t at = kUnits.find(upper.back()); at != kUnits.npos) {
      unit = std::uint64_t{1} << 10 * (at + 1);
      upper.pop_back();
    }
  const auto number = parse_number(upper);
  if (!number || *number == 0 || *number > most / unit) return std::nullopt;
  return *number * unit;
}

}  // namespace wexlo::cli
