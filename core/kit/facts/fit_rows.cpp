#include "kit/facts/fit_rows.hpp"

namespace wexlo {

FitRow& FitRows::add(FindingId id, std::string what, std::string firmware, std::string phone,
                     FitVerdict verdict, std::optional<Level> level, std::string why) {
  rows_.push_back({.id = std::move(id),
                   .what = std::move(what),
                   .firmware = std::move(firmware),
                   .phone = std::move(phone),
                   .verdict = verdict,
                   .level = verdict == FitVerdict::Differs ? level : std::nullopt,
                   .why = std::move(why)});
  return rows_.back();
}

FitVerdict FitRows::judged(const std::string& firmware, const std::string& phone, bool same) {
  if (firmware.empty() || phone.empty()) return FitVerdict::Unknown;
  return same ? FitVerdict::Fits : FitVerdict::Differs;
}

}  // namespace wexlo
