#include "kit/facts/room.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "firmware/firmware.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

const LogicalPartition* find(const SuperFacts& facts, std::string_view name) {
  const auto at = std::ranges::find(facts.partitions, name, &LogicalPartition::name);
  return at == facts.partitions.end() ? nullptr : &*at;
}

/// Extents of a partition begin at multiples of it, as a rule.
constexpr std::uint64_t kAlignment = 1u << 20;

/// What a generic system brings itself, in the order in which it is missed least.
constexpr std::array<std::string_view, 2> kBroughtAlong{"product", "system_ext"};

/// What may go for the sake of `partition`, best first.
std::vector<RoomStep> candidates(const SuperFacts& facts, const std::string& partition) {
  std::vector<RoomStep> out;
  const auto drop = [&](const LogicalPartition& one, std::string why, std::string loss,
                        bool leftover) {
    if (one.size != 0 && one.name != partition)
      out.push_back({.act = RoomAct::Drop,
                     .partition = one.name,
                     .before = one.size,
                     .why = std::move(why),
                     .loss = std::move(loss),
                     .leftover = leftover});
  };
  for (const LogicalPartition& one : facts.partitions)
    if (one.name.ends_with("-cow"))
      drop(one, "It is left over from an over-the-air update that was not finished.", {}, true);
  const std::string_view own = slot_suffix(partition);
  for (const std::string_view name : kBroughtAlong)
    if (const auto* one = find(facts, std::string(name) + std::string(own)))
      drop(*one, "A generic system brings what it needs of this itself.",
           fmt::format("what the maker put into {} is gone until it is written again", name),
           false);
  // Last: a slot that starts is what one falls back on.
  for (const LogicalPartition& one : facts.partitions)
    if (!own.empty() && !one.name.ends_with("-cow") && !slot_suffix(one.name).empty() &&
        slot_suffix(one.name) != own)
      drop(one, "It belongs to the other slot, which does not start from it now.",
           "the other slot does not start until a full update has filled it again", false);
  return out;
}

/// Whether anything bounds what partitions may take: super's size, or that of the own group.
bool room_is_known(const SuperFacts& facts, const LogicalPartition* own) {
  if (facts.size != 0) return true;
  if (own == nullptr || own->group.empty()) return false;
  const auto bound = std::ranges::find(facts.groups, own->group, &LogicalGroup::name);
  return bound != facts.groups.end() && bound->size != 0;
}

SuperFacts without(SuperFacts facts, const std::string& name) {
  std::erase_if(facts.partitions, [&](const LogicalPartition& one) { return one.name == name; });
  return facts;
}

}  // namespace

std::string_view room_act_word(RoomAct act) {
  return act == RoomAct::Drop ? "drop" : "resize";
}

std::uint64_t free_for(const SuperFacts& facts, const std::string& partition) {
  std::uint64_t all = 0, in_group = 0;
  const LogicalPartition* own = find(facts, partition);
  const std::string group = own == nullptr ? std::string() : own->group;
  for (const LogicalPartition& one : facts.partitions) {
    all += align_up(one.size, kAlignment);
    if (one.group == group) in_group += one.size;
  }
  std::uint64_t out = facts.size == 0 ? ~std::uint64_t{0} : facts.size - std::min(facts.size, all);
  const auto bound = std::ranges::find(facts.groups, group, &LogicalGroup::name);
  if (!group.empty() && bound != facts.groups.end() && bound->size != 0)
    out = std::min(out, bound->size - std::min(bound->size, in_group));
  return out == ~std::uint64_t{0} ? 0 : out;
}

RoomPlan make_room(const SuperFacts& facts, const std::string& partition, std::uint64_t size) {
  const LogicalPartition* own = find(facts, partition);
  const std::uint64_t now = own == nullptr ? 0 : own->size;
  RoomPlan out{.needed = size > now ? size - now : 0, .free = free_for(facts, partition)};
  const RoomStep resize{.act = RoomAct::Resize,
                        .partition = partition,
                        .before = now,
                        .after = size,
                        .why = fmt::format("The image has {}.", human_size(size)),
                        .loss = {}};
  if (out.needed > 0 && !room_is_known(facts, own)) {
    out.fits = out.unknown = true;
    out.why = fmt::format(
        "{} has to grow by {}, and the size of super is not known: the phone refuses "
        "the resize if there is too little room.",
        partition, human_size(out.needed));
    out.steps.push_back(resize);
    return out;
  }
  if (out.needed <= out.free) {
    out.fits = true;
    out.why = out.needed == 0 ? fmt::format("{} has room for it as it is.", partition)
                              : fmt::format("{} has to grow by {}; {} are free.", partition,
                                            human_size(out.needed), human_size(out.free));
    if (size != now) out.steps.push_back(resize);
    return out;
  }
  SuperFacts left = facts;
  for (RoomStep& step : candidates(facts, partition)) {
    const SuperFacts after = without(left, step.partition);
    // What frees nothing for this partition stays.
    if (free_for(after, partition) == free_for(left, partition)) continue;
    left = after;
    out.steps.push_back(std::move(step));
    if (free_for(left, partition) >= out.needed) break;
  }
  const std::uint64_t freed = free_for(left, partition);
  out.fits = freed >= out.needed;
  // Of what was gathered on the way, a later large one may have made an earlier one needless.
  for (std::size_t i = 0; out.fits && i + 1 < out.steps.size();) {
    SuperFacts trial = facts;
    for (std::size_t j = 0; j < out.steps.size(); ++j)
      if (j != i) trial = without(trial, out.steps[j].partition);
    if (!out.steps[i].leftover && free_for(trial, partition) >= out.needed)
      out.steps.erase(out.steps.begin() + static_cast<std::ptrdiff_t>(i));
    else
      ++i;
  }
  std::string dropped;
  for (const RoomStep& step : out.steps)
    dropped += (dropped.empty() ? "" : ", ") + step.partition;
  out.why = fmt::format("{} has to grow by {}, and {} are free; {}", partition,
                        human_size(out.needed), human_size(out.free),
                        out.fits          ? fmt::format("without {} there is room.", dropped)
                        : dropped.empty() ? "nothing in super can be spared."
                                          : fmt::format("even without {} only {} would be.",
                                                        dropped, human_size(freed)));
  out.steps.push_back(resize);
  return out;
}

SuperFacts after_room(SuperFacts facts, const RoomPlan& room) {
  for (const RoomStep& step : room.steps) {
    if (step.act == RoomAct::Drop) facts = without(std::move(facts), step.partition);
    for (LogicalPartition& one : facts.partitions)
      if (step.act == RoomAct::Resize && one.name == step.partition) one.size = step.after;
  }
  return facts;
}

}  // namespace wexlo
