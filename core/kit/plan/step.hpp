#pragma once
/// One step of a plan: an act, and what a person has to know of it. What an act means stands here
/// alone; flash/player.hpp performs it on a phone: docs/formats/kit.md.

#include <optional>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "kit/facts/kit_file.hpp"

namespace wexlo {

/// What a phone runs while it takes steps.
enum class Mode {
  Bootloader,
  Userspace,  ///< the only one that writes logical partitions
  Download,   ///< takes packages from another program
  Recovery,
};

/// A slot as seen from where the phone starts when the steps of one direction begin: it keeps its
/// meaning when another slot is chosen in between.
enum class SlotRole {
  None,  ///< the partition has no slots, or its name says which
  Current,
  Other,
};

/// What a person does that no wire does.
enum class Task {
  Ready,          ///< battery, cable, time; the sheet's own notes
  Unlock,         ///< the bootloader, which erases the phone
  LockWithKey,    ///< gives the phone the owner's key, then locks it
  Wipe,           ///< the user's data, in recovery's menu
  StartRecovery,  ///< before the system starts
  Write,          ///< an image that is not in the kit
  Fill,           ///< a logical partition that was made again
  Look,           ///< at what the phone shows after its start
  Identify,       ///< which phone this is, where no variable of it tells
  StartOnline,    ///< the system, once, with a network, after the phone was unlocked
};

namespace act {

/// A variable of the phone against a value. One that the phone does not know is unknown, not "no".
struct Expect {
  std::string variable;
  std::string value;                      ///< alternatives parted by '|'; empty: a bound instead
  std::optional<std::uint64_t> at_least;  ///< smallest number that holds
  std::optional<std::uint64_t> at_most;   ///< largest number that holds
  bool operator==(const Expect&) const = default;
};
struct EnterMode {
  Mode mode = Mode::Bootloader;
  bool operator==(const EnterMode&) const = default;
};
/// Sends a file and has it written to a partition.
struct Write {
  std::string partition;
  SlotRole slot = SlotRole::None;
  KitFile file;
  /// Of an image over the download limit: written as piece `piece` of `pieces`, from 1; 0: whole.
  unsigned piece = 0, pieces = 0;
  bool operator==(const Write&) const = default;
};
/// Starts an image once, without writing it.
struct Start {
  KitFile file;
  bool operator==(const Start&) const = default;
};
// Logical partitions: names with their slots, sizes in bytes.
struct Drop {
  std::string partition;
  bool operator==(const Drop&) const = default;
};
struct Create {
  std::string partition;
  std::uint64_t size = 0;
  bool operator==(const Create&) const = default;
};
struct Resize {
  std::string partition;
  std::uint64_t size = 0;
  bool operator==(const Resize&) const = default;
};
/// The slot that the phone starts from next.
struct ChooseSlot {
  SlotRole slot = SlotRole::Other;
  std::string letter;  ///< "a" or "b", where it is known
  bool operator==(const ChooseSlot&) const = default;
};
/// Of an over-the-air update that waits for its merge.
struct CancelUpdate {
  bool operator==(const CancelUpdate&) const = default;
};
/// A package from recovery's menu, or sent to it.
struct Install {
  KitFile package;
  bool operator==(const Install&) const = default;
};
/// A file for another program.
struct HandOver {
  KitFile file;       ///< its name may be empty: the stock package, wherever it is
  std::string field;  ///< where the program wants it
  std::vector<std::string> settings;
  bool operator==(const HandOver&) const = default;
};
/// Erases the user's data.
struct Wipe {
  bool operator==(const Wipe&) const = default;
};
/// Starts the system.
struct Restart {
  bool operator==(const Restart&) const = default;
};
struct ByHand {
  Task task = Task::Ready;
  std::string partition;  ///< of Write and Fill
  SlotRole slot = SlotRole::None;
  KitFile file;  ///< what is needed for it; its name may be empty
  bool operator==(const ByHand&) const = default;
};

}  // namespace act

using Act = std::variant<act::Expect, act::EnterMode, act::Write, act::Start, act::Drop,
                         act::Create, act::Resize, act::ChooseSlot, act::CancelUpdate, act::Install,
                         act::HandOver, act::Wipe, act::Restart, act::ByHand>;

/// What is at stake.
struct Risk {
  bool data_loss = false;  ///< the user's data
  bool final = false;      ///< nothing undoes it
  bool operator==(const Risk&) const = default;
};

struct Step {
  std::string id;  ///< once in its direction; only mode steps may come again
  Act act;
  std::string about;               ///< what and why, sentences
  std::string before;              ///< what must hold before it, a clause
  std::string success;             ///< how its success is known, a clause
  std::string screen;              ///< what the phone shows then; may be empty
  std::vector<std::string> notes;  ///< the technician's own, of this phone
  std::string undo;                ///< id of the step back; of some by hand, words; may be empty
  Risk risk;
  unsigned usual_seconds = 1;  ///< at least 1

  template <class A>
  [[nodiscard]] const A* get() const {
    return std::get_if<A>(&act);
  }
  template <class A>
  [[nodiscard]] bool is() const {
    return std::holds_alternative<A>(act);
  }
  bool operator==(const Step&) const = default;
};

/// The word of plan.toml: "expect", "mode", "write", …
[[nodiscard]] std::string_view act_word(const Act& act);
/// The place of a word's act in the variant.
[[nodiscard]] std::optional<std::size_t> act_of(std::string_view word);
[[nodiscard]] std::string_view mode_word(Mode mode);
[[nodiscard]] std::string_view slot_word(SlotRole slot);  ///< "", "current", "other"
[[nodiscard]] std::string_view task_word(Task task);
[[nodiscard]] std::optional<Mode> mode_of(std::string_view word);
[[nodiscard]] std::optional<SlotRole> slot_of(std::string_view word);
[[nodiscard]] std::optional<Task> task_of(std::string_view word);

/// The partition that an act is about; empty: none.
[[nodiscard]] std::string_view partition_of(const Act& act);
/// The file that an act needs; nullptr: none.
[[nodiscard]] const KitFile* file_of(const Act& act);
[[nodiscard]] KitFile* file_of(Act& act);

}  // namespace wexlo
