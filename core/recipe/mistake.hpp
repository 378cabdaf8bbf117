#pragma once
/// What is wrong with a recipe, and where.

#include <string>

#include "base/error.hpp"

namespace wexlo {

/// A mistake in a recipe.
struct Mistake {
  ErrorCode code = ErrorCode::BadValue;
  std::size_t line = 0, column = 0;  ///< from 1; 0: the file as a whole
  std::string message, expected, found;
  bool warning = false;  ///< it works, and is likely not meant
  int weight = 0;        ///< of several, one of a greater weight explains the others
  bool of_file = false;  ///< of a file that an edit brings: told where the edit is done
};

}  // namespace wexlo
