#pragma once
/// What a play of a plan tells people: of a rehearsal, and of a phone.

#include <string>
#include <vector>

#include "flash/rehearsal.hpp"
#include "reply.hpp"

namespace wexlo::cli {

/// A line a step: number, what it is, how it ended. @param all  expectations that held, too, each
/// by itself
[[nodiscard]] std::string played_text(const Paint& paint, const std::vector<Step>& plan,
                                      const std::vector<PlayedStep>& played, bool all);
/// "starts", in its colour.
[[nodiscard]] std::string start_text(const Paint& paint, StartVerdict verdict);

}  // namespace wexlo::cli
