#include "judge/rules.hpp"

namespace wexlo {
void Report::add(FindingCode code, const std::string& where, std::string message, bool untouched,
                 std::optional<Level> level) {
  Level now = level.value_or(kind_of(code).level);
  if (untouched && now != Level::Note) now = static_cast<Level>(static_cast<int>(now) - 1);
  findings_.push_back({now, code, std::move(message), where});
}

}  // namespace wexlo
