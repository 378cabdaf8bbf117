#pragma once
/// The rows of a fit as they are gathered.

#include <utility>

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

}  // namespace wexlo
