#pragma once
/// What a kit remembers of the phone's super, and of what its plan does to it.

#include <filesystem>

#include "kit/facts/room.hpp"

namespace wexlo {

struct KitSuper {
  SuperFacts before;
  std::vector<RoomPlan> rooms;
};

/// For kit.json; "null" where the kit writes no logical partition. JSON.
[[nodiscard]] std::string kit_super_json(const SuperFacts& before,
                                         const std::vector<RoomPlan>& rooms);
/// nullopt: no kit, or one that knows nothing of super. Errors: those of reading.
[[nodiscard]] Result<std::optional<KitSuper>> read_kit_super(const std::filesystem::path& folder);

}  // namespace wexlo
