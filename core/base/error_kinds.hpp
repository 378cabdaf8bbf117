#pragma once
/// What an error is about: what was read, or getting at it.

#include "base/error.hpp"

namespace wexlo {

/// The error says nothing of what the input holds: the run was stopped, or the machine could not
/// read it. It is never told as a fault of the input.
[[nodiscard]] constexpr bool is_of_this_run(ErrorCode code) {
  return code == ErrorCode::Interrupted || code == ErrorCode::Io || code == ErrorCode::NoSpace ||
         code == ErrorCode::NoMemory || code == ErrorCode::Internal;
}

/// Internal: what no one foresaw. @param why  the exception's own words
[[nodiscard]] inline Error internal_error(std::string_view why) {
  return {
      .code = ErrorCode::Internal,
      .message = "a fault of Wexlo's own",
      .found = std::string(why),
      .hint = "Please report it, with the command and the file. Nothing was left half-written."};
}

}  // namespace wexlo
