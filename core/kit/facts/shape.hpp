#pragma once
/// What fit and plan need to know, gathered from firmware, images and sheet.

#include "kit/facts/chain_facts.hpp"
#include "kit/facts/fit.hpp"
#include "kit/facts/given.hpp"
#include "kit/facts/room.hpp"
#include "kit/facts/ways.hpp"

namespace wexlo {

/// What kind of phone the firmware is for.
struct PhoneShape {
  Way way = Way::Bootloader;
  bool way_known = false;          ///< false: nothing says so, and the bootloader is taken for it
  std::optional<bool> slotted;     ///< nullopt: nothing says so
  std::string way_why, slots_why;  ///< clauses for people
};
/// @param sheet  believed before the firmware; nullptr: none
[[nodiscard]] PhoneShape shape_of(const Firmware& firmware, const std::vector<ImageFacts>& chain,
                                  const Sheet* sheet);

/// What super holds: as the phone has it, where the sheet says so, else as the firmware has it.
[[nodiscard]] SuperFacts super_facts(const Firmware& firmware, const Sheet* sheet, bool slotted);

/// The name that a partition has in super, with its slot; empty: it is not in there.
[[nodiscard]] std::string logical_name(const SuperFacts& super, const std::string& partition,
                                       const Sheet* sheet);

/// Rollback indexes of the firmware's structs, by location. Errors: Interrupted.
/// @param findings  a warning, when they do not read
[[nodiscard]] Status take_rollback(const Firmware& firmware, FitFacts& out,
                                   std::vector<Finding>& findings, const Context& context);

[[nodiscard]] FitGiven fit_given(const Given& given);

/// Of a folder with a download-mode set: the part for user settings that keeps the data, and the
/// one that wipes it, by their files' names. Empty where there is none.
struct SettingsParts {
  std::string keeping, wiping;
};
[[nodiscard]] SettingsParts settings_parts(const std::filesystem::path& firmware);

}  // namespace wexlo
