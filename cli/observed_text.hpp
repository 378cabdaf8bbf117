#pragma once
/// What was seen of a phone, as it was read: for people and as JSON.

#include "observed/observed.hpp"
#include "reply.hpp"

namespace wexlo::cli {

/// Files, or `-` for standard input, read. Errors: those of reading.
Result<Observed> observed_of(const std::vector<std::string>& files, const Context& context);

[[nodiscard]] Json observed_json(const Observed& observed);
/// What was used and what was not, a line each.
[[nodiscard]] std::string observed_text(const Session& session, const Observed& observed);

}  // namespace wexlo::cli
