#pragma once
/// Rows of a fit about what was brought along beside the firmware: images, packages, recipes.

#include "kit/facts/fit_rows.hpp"

namespace wexlo {

/// What was brought along, against the phone, and against the firmware it is put beside.
void fit_given(const FitGiven& one, const FitFacts& facts, const Sheet& sheet, FitRows& rows);
/// What a recipe says of the phones that it is for.
void fit_needs(const std::string& recipe, const PhoneNeeds& need, const FitFacts& facts,
               const Sheet& sheet, FitRows& rows);

}  // namespace wexlo
