#pragma once
/// Which of two builds is the older one.

#include <optional>
#include <string>
#include <string_view>

#include "kit/facts/fit.hpp"

namespace wexlo {

/// "korvale/gnomon/gnomon:16/KV3A.1/20260905:user/keys" -> "20260905"; empty: it has none.
[[nodiscard]] std::string incremental_of(std::string_view fingerprint);

/// The firmware's build against the phone's. Negative: the firmware is older; nullopt: they cannot
/// be put in an order.
[[nodiscard]] std::optional<int> build_order(const FitFacts& facts, const Sheet& sheet);

}  // namespace wexlo
