#include "kit/folder/kit_super.hpp"

#include <nlohmann/json.hpp>

#include "kit/folder/manifest_read.hpp"

namespace wexlo {
namespace {

using Json = nlohmann::ordered_json;

}  // namespace

std::string kit_super_json(const SuperFacts& before, const std::vector<RoomPlan>& rooms) {
  if (rooms.empty()) return "null";
  Json partitions = Json::array(), groups = Json::array(), steps = Json::array();
  for (const LogicalPartition& one : before.partitions)
    partitions.push_back({{"name", one.name}, {"size", one.size}, {"group", one.group}});
  for (const LogicalGroup& one : before.groups)
    groups.push_back({{"name", one.name}, {"size", one.size}});
  for (const RoomPlan& room : rooms)
    for (const RoomStep& step : room.steps)
      steps.push_back({{"do", step.act},
                       {"partition", step.partition},
                       {"before", step.before},
                       {"after", step.after}});
  const Json out{{"size", before.size},
                 {"partitions", std::move(partitions)},
                 {"groups", std::move(groups)},
                 {"steps", std::move(steps)}};
  // Names in a super image may hold any bytes.
  return out.dump(-1, ' ', false, Json::error_handler_t::replace);
}

Result<std::optional<KitSuper>> read_kit_super(const std::filesystem::path& folder) {
  auto kit = read_kit_manifest(folder);
  if (!kit && kit.error().code == ErrorCode::NotFound) return std::nullopt;
  if (!kit) return fail(std::move(kit).error());
  return std::move(kit->super);
}

}  // namespace wexlo
