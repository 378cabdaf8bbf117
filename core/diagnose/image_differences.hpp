#pragma once
/// What an image lost or got beside its stock twin, that no rule of `check` is about.

#include "diagnose/evidence.hpp"
#include "judge/joined.hpp"

namespace wexlo {

[[nodiscard]] EvidenceList differences_of(const Subject& one, const Subject& stock,
                                          const Joined& joined);

}  // namespace wexlo
