#pragma once
/// What a simulated phone is, beside what its partitions hold: docs/simulated-phone.md.

#include <map>
#include <set>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "phone/phone.hpp"

namespace wexlo {

/// Of one slot, as a loader keeps them.
struct SlotMarks {
  unsigned tries = 7;
  bool successful = true, unbootable = false;
  bool operator==(const SlotMarks&) const = default;
};

/// Of an over-the-air update.
enum class UpdateState {
  None,
  Snapshotted,  ///< it waits for its first start
  Merging,      ///< it is being merged: nothing may be written
};
[[nodiscard]] std::string_view update_word(UpdateState state);  ///< as the protocol has it

/// In which mode the phone gives partitions back.
enum class ReadingBack { Nowhere, Userspace, Everywhere };
[[nodiscard]] std::string_view reading_back_word(ReadingBack where);

/// The user's data.
struct UserData {
  bool wiped = false;    ///< it was erased since the phone was taken in hand
  std::string bound_to;  ///< patch level that its keys are bound to, YYYY-MM; empty: none
  bool unreadable = false;
  bool operator==(const UserData&) const = default;
};

/// A phone that takes packages in download mode, and its guard.
struct DownloadMode {
  bool there = false;
  bool online = true;  ///< was online since it was unlocked: before, official images only
  /// The stock vbmeta is on it still: a changed image of the boot chain does not start beside it.
  bool strict = true;
  bool operator==(const DownloadMode&) const = default;
};

struct PhoneState {
  std::string product, serial = "SIMULATED1", variant;
  std::map<std::string, std::string> variables;  ///< besides those that it works out itself
  std::set<std::string> silent;                  ///< variables that this one does not know
  PhoneMode mode = PhoneMode::System;
  bool slotted = true, locked = false, critical_locked = true;
  std::string slot = "a";
  std::map<std::string, SlotMarks> slots;  ///< "a", "b"; what is not here is as SlotMarks has it
  std::map<std::uint32_t, std::uint64_t> rollback;  ///< stored indexes by location
  Bytes root_key;         ///< that it trusts, a blob; empty: the one of its first vbmeta
  Bytes owner_key;        ///< given by its owner; empty: none
  bool fuse = false;      ///< the maker's: tripped by the first changed start
  unsigned battery = 80;  ///< percent
  UpdateState update = UpdateState::None;
  UserData data;
  DownloadMode download;
  std::uint64_t download_limit = std::uint64_t{256} << 20;  ///< bytes of one data phase
  std::uint64_t fetch_limit = std::uint64_t{1} << 20;       ///< bytes of one reading back
  ReadingBack gives_back = ReadingBack::Userspace;
  std::set<std::string> critical;  ///< partitions that stay protected while unlocked, bare names
  bool restores_recovery = false;  ///< its system writes its own recovery back when it starts
  bool recovery_ran = false;       ///< since it was written: it keeps the system from doing so
  /// With verification off its loader reads no patch level but the boot header's.
  bool level_from_header = false;
  bool updates_off = true;        ///< automatic ones, as its owner has set it
  std::set<std::string> written;  ///< partitions that were written since it was taken in hand
};

/// phone.toml, out and in. format(parse(x)) == x for every x that it wrote.
[[nodiscard]] std::string format_phone(const PhoneState& state);
/// Errors: BadValue with the line.
[[nodiscard]] Result<PhoneState> parse_phone(std::string_view text, const std::string& file);

}  // namespace wexlo
