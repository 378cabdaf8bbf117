#pragma once
/// What the fit of a kit is made from, gathered from firmware, sheet, recipes and what was given.

#include "firmware/stock_images.hpp"
#include "kit/facts/fit.hpp"
#include "kit/facts/shape.hpp"
#include "recipe/patched.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {

struct FitInput {
  StockImages& stock;
  Purpose purpose = Purpose::Patch;
  const PhoneShape& shape;
  Slots slots = Slots::Current;  ///< that are written
  const Sheet* sheet = nullptr;  ///< nullptr: none; then only what was given and recipes are judged
  const std::vector<Recipe>& recipes;
  const std::vector<Given>& given;
  const std::optional<Given>& install;
  PhoneFacts phone{};                      ///< as far as it is known
  std::vector<FitImage> images{};          ///< what will be written; empty: not known yet
  const std::vector<std::string>& accept;  ///< codes that a person has said yes to
};

struct FitResult {
  std::vector<FitRow> rows;
  std::vector<Finding> findings;
};

/// Errors: those of reading the images that were given, Interrupted.
[[nodiscard]] Result<FitResult> judge_fit(const FitInput& input, const Context& context);

}  // namespace wexlo
