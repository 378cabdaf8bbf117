#pragma once
/// What kit.json keeps of how the kit was made.

#include "kit/folder/making.hpp"
#include "text/json.hpp"
#include "text/json_read.hpp"

namespace wexlo {

[[nodiscard]] Json chain_json(const std::vector<ImageFacts>& chain);
/// The member `chain`; none: it is empty. Errors: BadValue with the place.
[[nodiscard]] Result<std::vector<ImageFacts>> read_chain(const JsonValue& row);

[[nodiscard]] Json making_json(const KitMaking& making);
/// The member `made`. Kits of older versions have none. Errors: BadValue with the place.
[[nodiscard]] Status read_making(const JsonValue& top, KitMaking& out);

}  // namespace wexlo
