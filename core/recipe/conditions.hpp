#pragma once
/// Whether conditions hold for a phone.

#include "recipe/recipe.hpp"

namespace wexlo {

/// Why a condition on the phone does not hold, a clause; empty: all do. Those on the image are not
/// looked at. Errors: NoTarget (it hangs on the kernel alone, and nothing tells which one it is).
[[nodiscard]] Result<std::string> failing_of_phone(const Conditions& conditions,
                                                   const PhoneFacts& phone);

/// Whether they are on the kernel's release or generation.
[[nodiscard]] bool asks_for_kernel(const Conditions& conditions);
/// The same of any edit of the recipes, and of the values that their texts and files name.
[[nodiscard]] bool ask_for_kernel(const std::vector<Recipe>& recipes);

/// False, too, where it cannot be told.
[[nodiscard]] bool is_for(const Conditions& conditions, const PhoneFacts& phone);

}  // namespace wexlo
