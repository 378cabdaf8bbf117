#pragma once
/// The registry of errors: one row for each code, with what it means and what to do about it.
/// docs/codes.md and `wexlo explain` are made from it.

#include <span>

#include "base/error.hpp"

namespace wexlo {

struct ErrorKind {
  ErrorCode code;
  std::string_view name;   ///< its spelling in JSON
  std::string_view about;  ///< what happened, a sentence
  std::string_view why;    ///< why Wexlo stops there, a sentence
  std::string_view to_do;  ///< sentences
};
[[nodiscard]] std::span<const ErrorKind> error_kinds();
/// nullptr: no error is spelled so.
[[nodiscard]] const ErrorKind* find_error(std::string_view name);

}  // namespace wexlo
