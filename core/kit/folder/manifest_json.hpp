#pragma once
/// Parts of kit.json that other documents of a kit have, too.

#include "kit/folder/manifest.hpp"
#include "text/json.hpp"

namespace wexlo {

/// What manifest and report both begin with.
[[nodiscard]] Json heading_json(const KitManifest& manifest);
[[nodiscard]] Json images_json(const KitImages& images);
[[nodiscard]] Json verdict_json(const KitVerdict& verdict);

}  // namespace wexlo
