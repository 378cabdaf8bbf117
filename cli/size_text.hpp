#pragma once
/// Sizes as people write them on the command line.

#include <cstdint>
#include <optional>
#include <string_view>

namespace wexlo::cli {

/// Bytes from 1 to `most`: decimal or `0x…`, with K, M, G or T (1024 and its powers) behind the
/// number; behind a decimal one `iB` and `B` may follow. nullopt: no size, or more than `most`.
[[nodiscard]] std::optional<std::uint64_t> size_from(std::string_view text, std::uint64_t most);

}  // namespace wexlo::cli
