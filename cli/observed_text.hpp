#pragma once
/// What was seen of a phone, as it was read: for people and as JSON.

#include "observed/observed.hpp"
#include "reply.hpp"

namespace wexlo::cli {

/// Files, `-` for standard input, and what a phone at its bootloader says, read.
/// @param phones  addresses of one phone, tried in order; none: nobody asks it
/// Errors: those of reading, Usage (an address), LinkLost.
[[nodiscard]] Result<Observed> observe(const std::vector<std::string>& files,
                                       const std::vector<std::string>& phones,
                                       const Context& context);

[[nodiscard]] Json observed_json(const Observed& observed);
/// What was used and what was not, a line each.
[[nodiscard]] std::string observed_text(const Session& session, const Observed& observed);

}  // namespace wexlo::cli
