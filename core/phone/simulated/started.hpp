#pragma once
/// How a start of a phone ends: words for verdicts, causes, and whether the add-on is in what runs.

#include <string_view>

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
  OtherRule,
  NotKnown,
};
[[nodiscard]] std::string_view cause_word(StartCause cause);  ///< "slot-not-written", …

/// Whether what recipes put in is in what runs.
enum class AddonSeen { Seen, NotSeen, None };
[[nodiscard]] std::string_view addon_word(AddonSeen addon);

}  // namespace wexlo
