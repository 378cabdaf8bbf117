#include "job/kit_super.hpp"

#include <nlohmann/json.hpp>

#include "base/source.hpp"
#include "job/prepare.hpp"

namespace wexlo {
namespace {

using Json = nlohmann::ordered_json;

constexpr std::uint64_t kMaxManifest = 16u << 20;

std::string text_of(const Json& row, const char* key) {
  const auto at = row.find(key);
  return at != row.end() && at->is_string() ? at->get<std::string>() : std::string();
}
std::uint64_t number_of(const Json& row, const char* key) {
  const auto at = row.find(key);
  return at != row.end() && at->is_number_unsigned() ? at->get<std::uint64_t>() : 0;
}

template <class Take>
void each(const Json& row, const char* key, Take take) {
  const auto at = row.find(key);
  if (at == row.end() || !at->is_array()) return;
  for (const Json& one : *at)
    if (one.is_object()) take(one);
}

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
  return Json{{"size", before.size},
              {"partitions", std::move(partitions)},
              {"groups", std::move(groups)},
              {"steps", std::move(steps)}}
      .dump();
}

Result<std::optional<KitSuper>> read_kit_super(const std::filesystem::path& folder) {
  const auto source = open_file(folder / kKitManifest);
  if (!source) return std::nullopt;
  WEXLO_TRY(const Blob text, read_all(**source, kMaxManifest));
  const Json kit = Json::parse(as_text(text.view()), nullptr, false);
  if (!kit.is_object() || !kit.contains("super") || !kit["super"].is_object()) return std::nullopt;
  const Json& super = kit["super"];
  KitSuper out;
  out.before.size = number_of(super, "size");
  each(super, "partitions", [&](const Json& row) {
    out.before.partitions.push_back(
        {text_of(row, "name"), number_of(row, "size"), text_of(row, "group")});
  });
  each(super, "groups", [&](const Json& row) {
    out.before.groups.push_back({text_of(row, "name"), number_of(row, "size")});
  });
  RoomPlan room;
  each(super, "steps", [&](const Json& row) {
    room.steps.push_back({.act = text_of(row, "do"),
                          .partition = text_of(row, "partition"),
                          .before = number_of(row, "before"),
                          .after = number_of(row, "after"),
                          .why = {},
                          .loss = {}});
  });
  out.rooms.push_back(std::move(room));
  return out;
}

}  // namespace wexlo
