#pragma once
/// The error of a container whose own tables cannot be right.

#include "base/source.hpp"

namespace wexlo {

/// @param at  offset in the container, bytes
[[nodiscard]] inline Error damaged_container(const Source& source, ErrorCode code, std::uint64_t at,
                                             std::string message, std::string expected,
                                             std::string found) {
  return {.code = code,
          .message = std::move(message),
          .file = source.name(),
          .offset = at,
          .expected = std::move(expected),
          .found = std::move(found),
          .hint = "The package is damaged or cut short: fetch it again."};
}

}  // namespace wexlo
