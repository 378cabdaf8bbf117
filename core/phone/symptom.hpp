#pragma once
/// What somebody sees of a phone that is not as it should be: a closed list.

#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "base/error.hpp"

namespace wexlo {

enum class Symptom {
  StaysInBootloader,
  LoopsAtOnce,
  LoopsLater,
  WarnsAndStarts,
  BlackScreen,
  RecoveryInstead,
  NoRoot,
  PartsDead,
  AsksToErase,
  RefusesWrite,
  RefusesUpdate,
};

struct SymptomRow {
  Symptom symptom;
  std::string_view word;   ///< "loops-at-once"
  std::string_view about;  ///< a sentence
};
[[nodiscard]] std::span<const SymptomRow> symptom_rows();
[[nodiscard]] std::string_view symptom_word(Symptom symptom);
[[nodiscard]] std::string_view symptom_about(Symptom symptom);
/// Errors: Usage, with the words that there are.
[[nodiscard]] Result<Symptom> parse_symptom(std::string_view word);

}  // namespace wexlo
