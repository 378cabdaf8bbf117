#pragma once
/// Rows of a fit about what was brought along beside the firmware: images, packages, recipes.

#include "kit/facts/fit.hpp"

namespace wexlo {

/// Gathers rows, each judged where it is added.
class FitRows {
 public:
  /// @param level  of a row that differs
  FitRow& add(FindingId id, std::string what, std::string firmware, std::string phone,
              FitVerdict verdict, std::optional<Level> level, std::string why);
  /// Unknown where one side is.
  static FitVerdict judged(const std::string& firmware, const std::string& phone, bool same);
  std::vector<FitRow> take() { return std::move(rows_); }

 private:
  std::vector<FitRow> rows_;
};

/// What was brought along, against the phone, and against the firmware it is put beside.
void fit_given(const FitGiven& one, const FitFacts& facts, const Sheet& sheet, FitRows& rows);
/// What a recipe says of the phones that it is for.
void fit_needs(const std::string& recipe, const PhoneNeeds& need, const FitFacts& facts,
               const Sheet& sheet, FitRows& rows);

}  // namespace wexlo
