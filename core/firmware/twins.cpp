#include "firmware/twins.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "base/contains.hpp"
#include "base/error_kinds.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

/// Larger ones are told by their size and first bytes.
constexpr std::uint64_t kMostCompared = 256u << 20;

/// A word of a folder's name that says that what is in it is not the newest.
bool is_older(const std::string& from) {
  static constexpr std::array<std::string_view, 8> kWords{"old",  "backup",   "backups", "bak",
                                                          "orig", "previous", "archive", "before"};
  constexpr std::string_view kLetters = "abcdefghijklmnopqrstuvwxyz";
  const std::size_t end = from.find_last_of("/!");
  if (end == from.npos) return false;
  const std::string folders = lower_case(std::string_view(from).substr(0, end));
  for (std::size_t at = 0; at < folders.size();) {
    const std::size_t begin = std::min(folders.find_first_of(kLetters, at), folders.size());
    at = std::min(folders.find_first_not_of(kLetters, begin), folders.size());
    if (contains(kWords, std::string_view(folders).substr(begin, at - begin))) return true;
  }
  return false;
}

/// Others are told by their size and first bytes.
bool is_compared_whole(const PartitionFacts& one) {
  return partition_class(without_slot(one.name)) != PartitionClass::Other &&
         one.size <= kMostCompared;
}

/// Whether both are the same image. nullopt: one of them does not read.
Result<std::optional<bool>> is_same(const PartitionFacts& a, const PartitionFacts& b,
                                    const Context& context) {
  if (a.size != b.size) return false;
  if (!a.sha256.empty() && !b.sha256.empty()) return a.sha256 == b.sha256;
  const auto head_a = a.content->head(4096), head_b = b.content->head(4096);
  if (!head_a || !head_b) return std::nullopt;
  const std::size_t seen = std::min(head_a->size(), head_b->size());
  if (!std::ranges::equal(View(*head_a).first(seen), View(*head_b).first(seen))) return false;
  if (!is_compared_whole(a)) return true;
  auto bytes_a = read_partition(a, kMostCompared, context);
  auto bytes_b = bytes_a ? read_partition(b, kMostCompared, context) : fail(bytes_a.error());
  if (!bytes_b && is_of_this_run(bytes_b.error().code)) return fail(bytes_b.error());
  if (!bytes_b) return std::nullopt;
  return equal(bytes_a->view(), bytes_b->view());
}

class Twins {
 public:
  Twins(Firmware& firmware, const Context& context) : firmware_(firmware), context_(context) {}

  Status run() {
    std::map<std::string, std::vector<std::size_t>> groups;
    for (std::size_t i = 0; i < all().size(); ++i)
      if (all()[i].size > 0 && all()[i].inside.empty()) groups[all()[i].name].push_back(i);
    for (auto& [name, members] : groups)
      if (members.size() > 1) WEXLO_CHECK(settle(members));
    WEXLO_CHECK(compare_slots());
    move_aside();
    return {};
  }

 private:
  std::vector<PartitionFacts>& all() { return firmware_.partitions; }

  Status settle(std::vector<std::size_t> members) {
    const auto keep = [&](auto better, std::string_view why) {
      const auto is = [&](std::size_t one) { return better(all()[one]); };
      const auto count = static_cast<std::size_t>(std::ranges::count_if(members, is));
      if (count == 0 || count == members.size()) return;
      const std::size_t chosen = *std::ranges::find_if(members, is);
      for (const std::size_t one : members)
        if (!is(one)) set_aside(one, chosen, std::string(why));
      std::erase_if(members, [&](std::size_t one) { return !is(one); });
    };
    keep([](const PartitionFacts& one) { return one.listed; },
         "the package's own listing names the one that was taken");
    keep([](const PartitionFacts& one) { return !is_older(one.from); },
         "the other one lies in a folder for older files");
    // The plainest first: of the same bytes that is the one that costs least to read.
    std::ranges::stable_sort(members, {}, [&](std::size_t one) {
      return std::pair(all()[one].sparse, all()[one].packed);
    });
    for (std::size_t i = 1; i < members.size();) {
      WEXLO_TRY(const auto same, is_same(all()[members[0]], all()[members[i]], context_));
      if (!same.value_or(false)) {
        ++i;
        continue;
      }
      set_aside(members[i], members[0],
                is_compared_whole(all()[members[0]]) ? "both hold the same bytes"
                                                     : "both have the same size and first bytes");
      members.erase(members.begin() + static_cast<std::ptrdiff_t>(i));
    }
    return {};
  }

  void set_aside(std::size_t one, std::size_t chosen, std::string why) {
    aside_.push_back(one);
    const auto named = [&](std::size_t of) {
      return all()[of].from.empty() ? all()[of].name : all()[of].from;
    };
    firmware_.notes.push_back(
        usual_finding(FindingId(FindingCode::OneOfSeveral, all()[one].name),
                      fmt::format("{}: {} was taken, not {}: {}.", all()[one].name, named(chosen),
                                  named(one), why)));
  }

  /// Dumps of a phone have both slots, which are the same where one build was written to both.
  Status compare_slots() {
    for (const PartitionFacts& one : all()) {
      if (slot_suffix(one.name) != "_a" || one.size == 0) continue;
      const std::string bare(without_slot(one.name));
      if (partition_class(bare) == PartitionClass::Other) continue;
      const PartitionFacts* other = firmware_.find(bare + "_b");
      if (other == nullptr || other->size == 0) continue;
      WEXLO_TRY(const auto same, is_same(one, *other, context_));
      if (same.value_or(false)) firmware_.same_slots.push_back(bare);
    }
    return {};
  }

  void move_aside() {
    std::ranges::sort(aside_, std::ranges::greater());
    for (const std::size_t one : aside_) {
      firmware_.aside.push_back(std::move(all()[one]));
      all().erase(all().begin() + static_cast<std::ptrdiff_t>(one));
    }
  }

  Firmware& firmware_;
  const Context& context_;
  std::vector<std::size_t> aside_;  ///< of the partitions
};

}  // namespace

Status settle_twins(Firmware& firmware, const Context& context) {
  return Twins(firmware, context).run();
}

}  // namespace wexlo
