#pragma once
/// How a start of a phone ends: words for verdicts, causes, and whether the add-on is in what runs.

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "phone/symptom.hpp"

namespace wexlo {

enum class StartVerdict {
  Starts,
  StartsWithWarning,
  OtherSlot,  ///< it starts, and not what was written
  Stops,
  CannotTell,
};
[[nodiscard]] std::string_view start_word(StartVerdict verdict);  ///< as in JSON

/// Why it starts as it does.
enum class StartCause {
  None,
  SlotNotWritten,
  SlotUnbootable,
  NoTriesLeft,
  NotVerified,        ///< locked: an image is not the one that is signed
  VerificationWarns,  ///< unlocked: it goes on
  Rollback,
  NoKernel,
  ImageForm,
  RamdiskFormat,
  RamdiskJoint,
  NoFirstProgram,
  FirstProgram,
  MountTable,
  OtherRamdisk,  ///< what was written is not what the first program comes from
  PatchLevel,
  DataUnreadable,
  UpdateHalfDone,
  RecoveryRestored,
  VbmetaNotAlong,
  StepFailed,  ///< a plan's step: it was not started
  DataWiped,   ///< though nobody wanted that
  AsTold,      ///< a fault that it was told to have
  OtherRule,
  NotKnown,
};
[[nodiscard]] std::string_view cause_word(StartCause cause);  ///< "slot-not-written", …

/// What somebody sees of it; nullopt: nothing that is wrong, or it cannot be told.
[[nodiscard]] std::optional<Symptom> symptom_of(StartVerdict verdict, StartCause cause);

/// Whether what recipes put in is in what runs.
enum class AddonSeen { Seen, NotSeen, None };
[[nodiscard]] std::string_view addon_word(AddonSeen addon);

/// How far a start came.
enum class StartStage { Loader, Kernel, System };

struct PoweredOn {
  StartVerdict verdict = StartVerdict::CannotTell;
  StartCause cause = StartCause::None;
  std::string reason;  ///< a sentence
  AddonSeen addon = AddonSeen::None;
  std::string slot;              ///< that it started from; empty: of one slot
  std::vector<std::string> log;  ///< lines, in order
  /// What somebody sees of it that is not as it should be; nullopt: nothing.
  std::optional<Symptom> symptom;
  /// Lines that could be saved of it: a kernel's log, properties, or a bootloader's variables.
  std::vector<std::string> shows;
  [[nodiscard]] bool starts() const {
    return verdict == StartVerdict::Starts || verdict == StartVerdict::StartsWithWarning;
  }
};

}  // namespace wexlo
