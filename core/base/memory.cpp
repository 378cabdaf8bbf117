#include "base/memory.hpp"

#include <fmt/format.h>

namespace wexlo {

Error no_memory_error(const std::bad_alloc& why, std::string_view what) {
  Error error{.code = ErrorCode::NoMemory,
              .message = fmt::format("not enough memory for {}", what),
              .hint = "Close other programs, or use a smaller --jobs."};
  if (const auto* sized = dynamic_cast<const OutOfMemory*>(&why))
    error.expected = fmt::format("{} bytes more", sized->bytes());
  return error;
}

}  // namespace wexlo
