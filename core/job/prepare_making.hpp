#pragma once
/// What a kit keeps of what was asked for, and of how it was made.

#include "job/prepare_inputs.hpp"
#include "kit/folder/manifest.hpp"

namespace wexlo {

[[nodiscard]] KitSettings settings_of(const PrepareOptions& options);
/// All but what is known when its files are laid out: what was given, and where its tar goes.
[[nodiscard]] KitMaking making_of(const PrepareInputs& in, const PrepareOptions& options);
/// A kit is made once more, and only what is around its package differs from then.
[[nodiscard]] bool is_wrapped(const PrepareInputs& in, const PrepareOptions& options);

}  // namespace wexlo
