#pragma once
/// How the rows of the registry of findings are written: for finding_table.cpp alone.

#include "base/finding.hpp"

namespace wexlo::finding_rows {

using enum FindingArea;
using enum Level;
using C = FindingCode;

inline constexpr bool kNamed = true, kAny = false, kLocked = true;

/// A rule of a start: what has to hold.
constexpr FindingKind rule(C code, std::string_view name, Level level, bool locked,
                           std::string_view about, std::string_view to_do) {
  return {code, name, Start, level, false, locked, about, to_do};
}
constexpr FindingKind row(C code, std::string_view name, FindingArea area, Level level,
                          std::string_view about, std::string_view to_do, bool named = false) {
  return {code, name, area, level, named, false, about, to_do};
}

inline constexpr std::string_view kFetchAgain =
    "Fetch the package again, and compare its size and digest with the source's.";
inline constexpr std::string_view kOtherFirmware =
    "Take the firmware of this very phone. If you know better, --accept names this finding.";
inline constexpr std::string_view kStockImage =
    "Take the image from the stock package of the build.";

}  // namespace wexlo::finding_rows
