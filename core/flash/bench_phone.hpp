#pragma once
/// A simulated phone as a sheet tells of it, filled from its firmware.

#include <filesystem>

#include "firmware/firmware.hpp"
#include "kit/facts/sheet.hpp"
#include "phone/simulated/power_on.hpp"

namespace wexlo {

/// What a sheet says of the phone's state.
[[nodiscard]] PhoneState state_of_sheet(const Sheet& sheet);

/// Puts partitions into an empty store: what the firmware has, of a phone with two slots into both;
/// what the sheet has besides, empty. Logical partitions come in a super of their own.
/// @param sheet, firmware  nullptr: none
/// Errors: those of reading the firmware and of the store.
[[nodiscard]] Result<PhoneState> fill_bench_phone(PartitionStore& store, const Sheet* sheet,
                                                  const Firmware* firmware, const Context& context);

/// Adds a super with these logical partitions, empty: only its tables are written. Each group gets
/// room for what is in it by now, whatever was told.
/// @param told  bytes of the super; less than its tables, partitions and `free` take counts as that
/// @param free  bytes that no partition has
/// Errors: those of the store and of SuperEdit::create().
[[nodiscard]] Result<SuperEdit> add_super(PartitionStore& store, std::uint64_t told,
                                          const std::vector<LogicalGroup>& groups,
                                          const std::vector<LogicalPartition>& partitions,
                                          std::uint64_t free = 0);

/// Keeps what only a phone as a whole tells: the key that it trusts, the level of its data.
void take_in_hand(SimulatedPhone& phone, const StockState& stock);

/// The key that a vbmeta was signed with, a blob; empty: there is none, or it is not signed.
[[nodiscard]] Bytes root_key_of(const StockState& stock);

}  // namespace wexlo
