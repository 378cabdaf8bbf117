#pragma once
/// What a system image says of itself.

#include "firmware/firmware.hpp"

namespace wexlo {

struct SystemProperties {
  BuildFacts build;
  std::string architecture;     ///< of its programs; empty: not known
  std::optional<bool> slotted;  ///< says whether it is for two slots
};

/// Property files lie in most file systems as they are: their lines are found without reading the
/// file system itself. Where they are packed, nothing is known. Errors: Interrupted, those of
/// reading.
[[nodiscard]] Result<SystemProperties> scan_system(const Source& source, const Context& context);

}  // namespace wexlo
