/// Rules for misc: what the loader and recovery leave there for the next start.

#include <fmt/format.h>

#include "base/crc.hpp"
#include "judge/subject.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kSlotControl = 2048, kMergeMessage = 32768;
constexpr std::uint32_t kSlotMagic = 0x42414342, kMergeMagic = 0x56740AB0;

void judge_slots(const Subject& misc, const std::string& slot, Report& report) {
  const auto raw = read_some(*misc.source, kSlotControl, 32);
  if (!raw || raw->size() < 32) return;
  const auto number = [&](std::size_t at) {
    return load<std::uint32_t, std::endian::little>(raw->data() + at);
  };
  if (number(4) != kSlotMagic) return;
  if (number(28) != crc32_of(View(*raw).first(28))) {
    report.add(FindingCode::SlotState, misc.partition,
               "The slot control block's checksum does not match: the "
               "loader starts with its defaults.",
               false, Level::Warning);
    return;
  }
  std::string active(until_nul(View(*raw).first(4)));
  if (active.starts_with('_')) active.erase(0, 1);
  const std::string used = slot.empty() ? active : slot;
  if (used.size() != 1 || used[0] < 'a' || used[0] > 'd') return;
  if (!slot.empty() && !active.empty() && active != slot)
    report.add(FindingCode::SlotState, misc.partition,
               fmt::format("The phone starts slot {}, these images are for slot {}.", active, slot),
               false, Level::Warning);
  const auto info =
      load<std::uint16_t, std::endian::little>(raw->data() + 12 + 2 * (used[0] - 'a'));
  const unsigned priority = info & 15u, tries = info >> 4 & 7u, good = info >> 7 & 1u;
  if (priority == 0)
    report.add(FindingCode::SlotState, misc.partition,
               fmt::format("Slot {} is marked unbootable.", used));
  else if (tries == 0 && good == 0)
    report.add(FindingCode::SlotState, misc.partition,
               fmt::format("Slot {} has no tries left, and never started.", used));
}

}  // namespace

void judge_misc(const Subject& misc, const std::string& slot, Report& report) {
  judge_slots(misc, slot, report);
  const auto raw = read_some(*misc.source, kMergeMessage, 8);
  if (!raw || raw->size() < 8) return;
  if (load<std::uint32_t, std::endian::little>(raw->data() + 1) != kMergeMagic) return;
  const unsigned status = std::to_integer<unsigned>((*raw)[5]);
  constexpr unsigned kSnapshotted = 2, kMerging = 3;
  if (status == kSnapshotted || status == kMerging)
    report.add(FindingCode::MergePending, misc.partition,
               status == kMerging
                   ? "An update is being merged: write to neither slot before that is done."
                   : "An update waits to be merged: writing now may lose it.");
}

}  // namespace wexlo
