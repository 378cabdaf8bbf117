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

}  // namespace wexlo
