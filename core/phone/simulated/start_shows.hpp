#pragma once
/// What a simulated phone shows of a start: the lines that a technician could save of a real one,
/// in the forms that kernels, systems and bootloaders write them.

#include "phone/simulated/start_look.hpp"

namespace wexlo {

/// Whatever is on the phone: a start that somebody wants to see fail. @return how far it came
[[nodiscard]] StartStage fail_as(Symptom told, PoweredOn& started);

/// Its log and what it showed, as one text.
[[nodiscard]] std::string saved_text(const PoweredOn& started);

/// @param forced  the fault that it was told to have
[[nodiscard]] std::vector<std::string> what_it_shows(SimulatedPhone& phone, const StartLook& look,
                                                     const PoweredOn& started, StartStage stage,
                                                     const std::optional<Symptom>& forced);

}  // namespace wexlo
