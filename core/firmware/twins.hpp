#pragma once
/// Several files of one partition in one package: an image beside its sparse twin, a signed copy,
/// an older backup, the other slot's.

#include "firmware/firmware.hpp"

namespace wexlo {

/// Where one of them is clearly meant the others are set aside, with a note that says why; where
/// nothing tells, all stay, and who asks for the partition has to choose. Reads the boot chain's
/// images where two have the same size; of others their first bytes. Errors: Interrupted.
[[nodiscard]] Status settle_twins(Firmware& firmware, const Context& context);

}  // namespace wexlo
