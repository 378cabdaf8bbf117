#pragma once
/// Which Wexlo this is.

#include <string_view>

namespace wexlo {

/// "0.1.0"
[[nodiscard]] std::string_view version();

}  // namespace wexlo
