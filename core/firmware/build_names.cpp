#include "firmware/build_names.hpp"
#include "text/text.hpp"

#include <algorithm>
#include <ranges>
#include <utility>

namespace wexlo {
namespace {

constexpr std::size_t kLast = 5;    ///< binary number, system, year, month, revision
constexpr std::size_t kRegion = 3;  ///< region and kind of the build, before them
constexpr std::size_t kLeast = 10, kMost = 20;

bool is_upper(char c) {
  return c >= 'A' && c <= 'Z';
}
bool is_sign(char c) {
  return is_upper(c) || (c >= '0' && c <= '9');
}

}  // namespace

std::optional<unsigned> binary_number(std::string_view build) {
  if (build.size() < kLeast || build.size() > kMost || !std::ranges::all_of(build, is_sign))
    return std::nullopt;
  const std::string_view last = build.substr(build.size() - kLast);
  const bool month = last[3] >= 'A' && last[3] <= 'L';
  const bool digit = std::ranges::any_of(build, [](char c) { return c >= '0' && c <= '9'; });
  if (!is_upper(last[1]) || !is_upper(last[2]) || !month || !digit || !is_upper(build.front()))
    return std::nullopt;
  return is_upper(last[0]) ? static_cast<unsigned>(last[0] - 'A') + 10
                           : static_cast<unsigned>(last[0] - '0');
}

std::optional<BuildName> read_build_name(std::string_view file) {
  file.remove_prefix(std::min(file.find_last_of("/!") + 1, file.size()));
  if (!ends_as(file, ".tar") && !ends_as(file, ".tar.md5")) return std::nullopt;
  BuildName out;
  bool first = true;
  for (const auto part : std::views::split(file.substr(0, file.find('.')), '_')) {
    const std::string_view word(part.begin(), part.end());
    if (std::exchange(first, false)) {
      out.word = word;
      continue;
    }
    const auto binary = binary_number(word);
    if (!binary) continue;
    out.build = word;
    out.model = word.substr(0, word.size() - kLast - kRegion);
    out.binary = *binary;
    return out;
  }
  return std::nullopt;
}

}  // namespace wexlo
