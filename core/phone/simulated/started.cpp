#include "phone/simulated/started.hpp"

#include <array>
#include <cstddef>

namespace wexlo {
namespace {

/// In the order of the enums.
constexpr std::array<std::string_view, 5> kVerdicts{"starts", "starts-with-warning", "other-slot",
                                                    "stops", "cannot-tell"};
constexpr std::array<std::string_view, 25> kCauses{"none",
                                                   "slot-not-written",
                                                   "slot-unbootable",
                                                   "no-tries-left",
                                                   "not-verified",
                                                   "verification-warns",
                                                   "rollback",
                                                   "no-kernel",
                                                   "image-form",
                                                   "ramdisk-format",
                                                   "ramdisk-joint",
                                                   "no-first-program",
                                                   "first-program",
                                                   "mount-table",
                                                   "other-ramdisk",
                                                   "patch-level",
                                                   "data-unreadable",
                                                   "update-half-done",
                                                   "recovery-restored",
                                                   "vbmeta-not-along",
                                                   "step-failed",
                                                   "data-wiped",
                                                   "as-told",
                                                   "other-rule",
                                                   "not-known"};
constexpr std::array<std::string_view, 3> kAddon{"seen", "not-seen", "none"};

}  // namespace

std::string_view start_word(StartVerdict verdict) {
  return kVerdicts[static_cast<std::size_t>(verdict)];
}
std::string_view cause_word(StartCause cause) {
  return kCauses[static_cast<std::size_t>(cause)];
}
std::optional<Symptom> symptom_of(StartVerdict verdict, StartCause cause) {
  const bool stops = verdict == StartVerdict::Stops;
  switch (cause) {
    case StartCause::SlotUnbootable:
    case StartCause::NoTriesLeft: return stops ? Symptom::StaysInBootloader : Symptom::NoRoot;
    case StartCause::NotVerified:
    case StartCause::Rollback:
    case StartCause::NoKernel:
    case StartCause::ImageForm:
    case StartCause::VbmetaNotAlong: return stops ? Symptom::StaysInBootloader : Symptom::NoRoot;
    case StartCause::VerificationWarns: return Symptom::WarnsAndStarts;
    case StartCause::RamdiskFormat:
    case StartCause::RamdiskJoint:
    case StartCause::NoFirstProgram:
    case StartCause::FirstProgram:
    case StartCause::MountTable:
    case StartCause::OtherRule: return stops ? Symptom::LoopsAtOnce : Symptom::NoRoot;
    case StartCause::SlotNotWritten:
    case StartCause::OtherRamdisk:
    case StartCause::RecoveryRestored: return Symptom::NoRoot;
    case StartCause::PatchLevel:
    case StartCause::DataUnreadable: return Symptom::AsksToErase;
    case StartCause::UpdateHalfDone: return Symptom::LoopsLater;
    case StartCause::StepFailed: return Symptom::RefusesWrite;
    case StartCause::AsTold:
    case StartCause::None:
    case StartCause::DataWiped:
    case StartCause::NotKnown: break;
  }
  return std::nullopt;
}

std::string_view addon_word(AddonSeen addon) {
  return kAddon[static_cast<std::size_t>(addon)];
}

}  // namespace wexlo
