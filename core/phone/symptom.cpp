#include "phone/symptom.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <vector>

#include "text/nearest.hpp"

namespace wexlo {
namespace {

constexpr std::array kRows{
    SymptomRow{Symptom::StaysInBootloader, "stays-in-bootloader",
               "It stays in its bootloader, or comes back to it."},
    SymptomRow{Symptom::LoopsAtOnce, "loops-at-once",
               "It restarts again and again at the maker's first picture."},
    SymptomRow{Symptom::LoopsLater, "loops-later",
               "The system's own picture moves for a while, then it restarts."},
    SymptomRow{Symptom::WarnsAndStarts, "warns-and-starts",
               "It shows a warning, and the system comes up."},
    SymptomRow{Symptom::BlackScreen, "black-screen",
               "The screen stays black, or stops at one picture."},
    SymptomRow{Symptom::RecoveryInstead, "recovery-instead",
               "Recovery starts in the place of the system."},
    SymptomRow{Symptom::NoRoot, "no-root",
               "The system comes up, and nothing of what was put in is there."},
    SymptomRow{Symptom::PartsDead, "parts-dead",
               "The system comes up, and touch, radio, sound or another part is dead."},
    SymptomRow{Symptom::AsksToErase, "asks-to-erase",
               "It asks for the user's data to be erased, or cannot read them."},
    SymptomRow{Symptom::RefusesWrite, "refuses-write",
               "The bootloader, or the program for download mode, refuses a write."},
    SymptomRow{Symptom::RefusesUpdate, "refuses-update",
               "An over-the-air update, or a package in recovery, is refused."},
};

}  // namespace

std::span<const SymptomRow> symptom_rows() {
  return kRows;
}

std::string_view symptom_word(Symptom symptom) {
  return std::ranges::find(kRows, symptom, &SymptomRow::symptom)->word;
}

std::string_view symptom_about(Symptom symptom) {
  return std::ranges::find(kRows, symptom, &SymptomRow::symptom)->about;
}

Result<Symptom> parse_symptom(std::string_view word) {
  const auto* const row = std::ranges::find(kRows, word, &SymptomRow::word);
  if (row != kRows.end()) return row->symptom;
  std::vector<std::string> words;
  std::string all;
  for (const SymptomRow& one : kRows) {
    words.emplace_back(one.word);
    all += fmt::format("{}{}", all.empty() ? "" : ", ", one.word);
  }
  return fail({.code = ErrorCode::Usage,
               .message = "there is no such symptom",
               .expected = all,
               .found = std::string(word),
               .hint = did_you_mean(std::string(word), words)});
}

}  // namespace wexlo
