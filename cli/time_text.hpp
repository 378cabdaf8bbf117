#pragma once
/// Times from a package as people write them.

#include <cstdint>
#include <string>

namespace wexlo::cli {

/// `2026-09-05 06:00 UTC`; the bare number when it is no time that a calendar has.
[[nodiscard]] std::string utc_time(std::uint64_t seconds);

}  // namespace wexlo::cli
