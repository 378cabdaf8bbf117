#pragma once
/// What a person does with the simulated phone, as lines on standard input: "recovery",
/// "install FILE", …

#include <functional>
#include <string>

#include "phone/simulated/simulated_phone.hpp"

namespace wexlo::sim {

/// Does what a line says. @return what to tell; empty: nothing. Errors: Usage (no such line), those
/// of the phone.
[[nodiscard]] Result<std::string> do_by_hand(SimulatedPhone& phone, const std::string& line);

/// What lines there are, for people.
[[nodiscard]] std::string hands_help();

}  // namespace wexlo::sim
