#include "phone/simulated/stock_state.hpp"

#include <algorithm>

#include "image/boot.hpp"
#include "image/partitions.hpp"
#include "judge/phone_set.hpp"
#include "verified/chain.hpp"

namespace wexlo {

/// What is read whole and judged.
bool is_of_a_start(std::string_view bare) {
  return partition_class(bare) != PartitionClass::Other;
}

bool is_blank(const Source& source) {
  constexpr std::uint64_t kHead = 4096;
  const auto head = read_some(source, 0, kHead);
  return !head || all_bytes(*head, std::byte{0});
}

std::string patch_level_of(const Subjects& set, bool header_alone) {
  std::string out;
  for (const char* name : {"boot", "init_boot"}) {
    const Subject* const one = set.find(name);
    if (one == nullptr || one->image() == nullptr) continue;
    std::string level = boot::os_version(*one->image()).patch_level;
    constexpr std::size_t kMonth = 7;  // YYYY-MM
    if (level.empty() && !header_alone)
      level = one->build_property("security_patch").substr(0, kMonth);
    out = std::max(out, level);
  }
  return out;
}

std::string trouble_text(const Finding& finding) {
  return finding.id.text() + " " + finding.message;
}

namespace {

/// Rules, as if all of it had been changed.
std::set<std::string> troubles_of(Subjects set, bool whole) {
  Report report;
  for (Subject& one : set.all) {
    one.untouched = false;
    judge_form(one, nullptr, report);
    judge_ramdisks(one, nullptr, report);
  }
  judge_set({set, verified::Walk(), "", whole}, report);
  std::set<std::string> out(report.unknown().begin(), report.unknown().end());
  for (const Finding& one : report.take())
    out.insert(trouble_text(one));
  return out;
}

}  // namespace

Result<std::shared_ptr<const StockState>> StockState::of(SimulatedPhone& phone,
                                                         std::set<std::string> own) {
  auto out = std::make_shared<StockState>();
  out->own = std::move(own);
  Subjects current;
  for (const std::string& name : phone.partitions()) {
    const std::string bare(without_slot(name));
    if (!is_of_a_start(bare)) continue;
    WEXLO_TRY(SourcePtr source, phone.content(name));
    if (is_blank(*source)) continue;
    // Both slots mostly have the same image: it is read once.
    const auto same = std::ranges::find_if(out->images, [&](const auto& one) {
      return one.second.source == source && without_slot(one.first) == bare;
    });
    Subject subject;
    if (same != out->images.end()) {
      subject = same->second.subject;
    } else {
      PhoneSet set;
      set.add(name, source);
      WEXLO_TRY(subject, read_subject(set, set.members().front(), std::string(slot_suffix(name)),
                                      phone.context()));
    }
    subject.untouched = true;
    if (slot_suffix(name).empty() || slot_suffix(name) == "_" + phone.state.slot)
      current.all.push_back(subject);
    out->images.emplace(name, Known{std::move(source), std::move(subject)});
  }
  out->patch_level = patch_level_of(current, false);
  out->troubles = troubles_of(std::move(current), out->own.empty());
  return out;
}

}  // namespace wexlo
