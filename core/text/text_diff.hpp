#pragma once
/// What differs between two texts, by the line.

#include <string>
#include <string_view>
#include <vector>

namespace wexlo {

/// Valid as text for people: no NUL, hardly any control characters.
[[nodiscard]] bool looks_like_text(std::string_view bytes);

/// Lines that were taken out (`-`) and put in (`+`), in order, with `@ N` before each group where N
/// is the line in `before`, from 1. The shortest edit (Myers); texts too far apart are given as
/// replaced from the first to the last differing line.
/// @param most  lines of output; a last line says how many more there are
[[nodiscard]] std::vector<std::string> diff_lines(std::string_view before, std::string_view after,
                                                  std::size_t most = 200);

}  // namespace wexlo
