#include "text/text_diff.hpp"

#include <algorithm>

namespace wexlo {
namespace {

using Lines = std::vector<std::string_view>;

Lines lines_of(std::string_view text) {
  Lines lines;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    lines.push_back(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return lines;
}

/// One step of the way from one text to the other.
struct Step {
  char sign;         ///< '-' or '+'
  std::size_t line;  ///< in its own text
  std::size_t at;    ///< in the first text
};

/// Myers' greedy search for the shortest edit, its fronts kept to walk back; nullopt-like (false)
/// when it takes more than `most` steps.
bool shortest(const Lines& a, const Lines& b, long most, std::vector<Step>& steps) {
  const long n = static_cast<long>(a.size()), m = static_cast<long>(b.size());
  const long bound = std::min(most, n + m);
  std::vector<long> front(static_cast<std::size_t>(2 * bound + 3), 0);
  std::vector<std::vector<long>> history;
  const auto at = [bound](long k) { return static_cast<std::size_t>(k + bound + 1); };
  for (long d = 0; d <= bound; ++d) {
    history.push_back(front);
    for (long k = -d; k <= d; k += 2) {
      const bool down = k == -d || (k != d && front[at(k - 1)] < front[at(k + 1)]);
      long x = down ? front[at(k + 1)] : front[at(k - 1)] + 1;
      while (x < n && x - k < m &&
             a[static_cast<std::size_t>(x)] == b[static_cast<std::size_t>(x - k)])
        ++x;
      front[at(k)] = x;
      if (x < n || x - k < m) continue;
      // Back along the fronts.
      for (long back = d, px = n, py = m; back > 0; --back) {
        const auto& old = history[static_cast<std::size_t>(back)];
        const long pk = px - py;
        const bool came_down = pk == -back || (pk != back && old[at(pk - 1)] < old[at(pk + 1)]);
        const long from = came_down ? pk + 1 : pk - 1;
        px = old[at(from)];
        py = px - from;
        const long line = came_down ? py : px;
        steps.push_back(
            {came_down ? '+' : '-', static_cast<std::size_t>(line), static_cast<std::size_t>(px)});
      }
      std::ranges::reverse(steps);
      return true;
    }
  }
  return false;
}

}  // namespace

bool looks_like_text(std::string_view bytes) {
  return std::ranges::all_of(
      bytes, [](unsigned char c) { return c >= 0x20 || c == '\n' || c == '\r' || c == '\t'; });
}

std::vector<std::string> diff_lines(std::string_view before, std::string_view after,
                                    std::size_t most) {
  Lines a = lines_of(before), b = lines_of(after);
  // Equal beginnings and ends need no search.
  std::size_t head = 0;
  while (head < a.size() && head < b.size() && a[head] == b[head])
    ++head;
  while (a.size() > head && b.size() > head && a.back() == b.back()) {
    a.pop_back();
    b.pop_back();
  }
  a.erase(a.begin(), a.begin() + static_cast<std::ptrdiff_t>(head));
  b.erase(b.begin(), b.begin() + static_cast<std::ptrdiff_t>(head));
  std::vector<Step> steps;
  constexpr long kFar = 1000;  // beyond, memory grows with its square
  if (!shortest(a, b, kFar, steps)) {
    steps.clear();
    for (std::size_t i = 0; i < a.size(); ++i)
      steps.push_back({'-', i, i});
    for (std::size_t i = 0; i < b.size(); ++i)
      steps.push_back({'+', i, a.size()});
  }
  std::vector<std::string> out;
  std::size_t next = ~std::size_t{0}, left = 0;
  for (const Step& step : steps) {
    if (out.size() >= most) {
      ++left;
      continue;
    }
    if (step.at != next) out.push_back("@ " + std::to_string(head + step.at + 1));
    next = step.at + (step.sign == '-' ? 1 : 0);
    out.push_back(step.sign + std::string(step.sign == '-' ? a[step.line] : b[step.line]));
  }
  if (left != 0) out.push_back("... and " + std::to_string(left) + " more");
  // Lines are alike: the ends of the files differ.
  if (steps.empty() && before != after) out.emplace_back("@ end of file: line ends differ");
  return out;
}

}  // namespace wexlo
