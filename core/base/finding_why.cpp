/// Why each finding matters: what happens to the phone, or to the work, if nobody looks.

#include <array>

#include "base/finding.hpp"

namespace wexlo {
namespace {

using C = FindingCode;

struct Why {
  FindingCode code;
  std::string_view text;
};

constexpr std::string_view kStays = "The phone stays in its bootloader, or starts again and again.";
constexpr std::string_view kForeign =
    "An image made for another phone mostly does not start, and may need a repair to undo.";
constexpr std::string_view kWrongFile = "The wrong image in a partition stops the phone.";
constexpr std::string_view kDamaged = "What cannot be read may be what the phone needs.";
constexpr std::string_view kMayBeDamaged = "The package may be damaged.";

constexpr Why kWhys[] = {
    {C::HeaderForm, kStays},
    {C::SectionBounds, kStays},
    {C::PartitionSize, "The bootloader refuses the write, or the end of the image is lost."},
    {C::FileLength, "A footer that is not at the partition's end is not found."},
    {C::TreeSection, "The loader reads another device tree than the one meant, or none."},
    {C::IdDigest, "Some old loaders compare it; most do not."},
    {C::Kernel, kStays},
    {C::AppendedTrees,
     "Without its device tree the kernel knows no hardware: the screen stays black."},
    {C::MakerPrefix, "The maker's loader reads its own header first, and refuses the image."},
    {C::EnforcingTrailer, "Some loaders take an image without it for a changed one, and warn."},
    {C::RamdiskPacking, "A kernel that cannot unpack its ramdisk stops before any program."},
    {C::JoinedRamdisk, "Without /init the kernel stops, and the phone starts again."},
    {C::ArchiveOrder, "The kernel drops a file whose folder it has not seen yet."},
    {C::KernelModules,
     "Modules of another kernel are refused: touch, radio or storage are missing."},
    {C::MountTable, "A partition that is not mounted stops the start of the system."},
    {C::TextForm, "A name with an invisible character at its end is not found."},
    {C::FragmentTable, "The loader joins the wrong bytes as a ramdisk."},
    {C::VersionPair, "Parts of the start are looked for in an image that does not have them."},
    {C::Bootconfig, "The kernel ignores the whole text: the system lacks its settings."},
    {C::VerifiedStruct, "A loader that cannot read the struct stops, on unlocked phones, too."},
    {C::ImageDigest, "A locked phone stops at power-on. An unlocked one shows its warning."},
    {C::Signature, "A locked phone stops at power-on. An unlocked one shows its warning."},
    {C::ChainFlags, "Loaders refuse flags there, on unlocked phones, too."},
    {C::RollbackIndex, "A locked phone refuses what is older than what it has seen."},
    {C::PatchLevel,
     "The key store refuses its keys to an older level: the user's data cannot be opened."},
    {C::OsVersion, "The key store refuses its keys to an older version."},
    {C::SlotState, "The phone starts the other slot, and what was written is never used."},
    {C::MergePending, "Writing while an update is merged breaks both builds."},
    {C::LockedChange,
     "A phone that is locked with changed images does not start, and may not unlock again."},
    {C::SystemDigest, "Blocks that do not match are read as errors while the system runs."},
    {C::ErrorCorrection, "Damaged blocks could not be repaired while the system runs."},
    {C::SuperTables, "With its last copy damaged, no logical partition is found."},
    {C::RamdiskUnused, "The edit is in a ramdisk that the system does not start from."},
    {C::DeviceIdentity, "Two phones with one address or serial disturb each other."},
    {C::LoadOverlap, "One part is written over another while the phone loads."},
    {C::ProgramPages, "The program ends at once: as /init it stops the phone."},

    {C::SlotChosen, "The other slot may look different."},
    {C::VerificationOff, "Nobody notices if something else changes a partition."},
    {C::NotAvailable, "Nothing is said of them."},
    {C::NoTopLevel, "What covers the image, and with which key, is not known."},
    {C::OlderSignature, "Loaders of that time refuse it when locked."},
    {C::SelinuxPermissive, "Programs are not kept apart: the phone is open to all of them."},
    {C::RamdiskUnread, kDamaged},
    {C::AlteredImage, "There is no certain way back from it to the stock image."},

    {C::FitDevice, kForeign},
    {C::FitBuild, "Kernel modules and system of another build do not go with this image."},
    {C::FitPatchLevel, "The user's data cannot be opened by an older level."},
    {C::FitRollback, "A locked phone refuses it at power-on."},
    {C::FitAntiRollback,
     "Such a phone may not start at all afterwards, and cannot be repaired by cable."},
    {C::FitRegion, "Radio and regional settings differ, and the loader may refuse it."},
    {C::FitArchitecture, "A program for another processor does not run."},
    {C::FitSlots, "The plan would write partitions that the phone does not have."},
    {C::FitLayout, "The phone would look for its first ramdisk in another image."},
    {C::FitHeaderVersion, kStays},
    {C::FitDemand, "The phone's own updater would refuse the package."},
    {C::FitRecipeNeeds, "The recipe was not made for it, and was not tried on it."},
    {C::FitGivenArchitecture, "A program for another processor does not run."},
    {C::FitGivenSlots, "It looks for partitions by names that the phone does not have."},
    {C::FitGivenDevice, kForeign},
    {C::FitGivenHeader, kStays},
    {C::FitGivenBuild, "Kernel modules and system of another build do not go with this image."},
    {C::FitGivenPatchLevel, "The user's data cannot be opened by an older level."},
    {C::FitPartitionSize, "The write is refused, or the end of the image is lost."},
    {C::FitOtherSlot, "That slot's system would get a kernel of another build."},
    {C::FitUpdateRunning, "Writing while an update is merged breaks both builds."},
    {C::FitBatteryLow, "A phone that goes off while it is written may not start again."},
    {C::FitBattery, "A phone that goes off while it is written may not start again."},
    {C::FitWipes, "The owner's data is gone."},
    {C::FitDowngrade, "The user's data cannot be opened by an older build."},

    {C::Patched, "A kit has to hold the stock image for the way back."},
    {C::Altered, "A kit has to hold the stock image for the way back."},
    {C::NotCovered, "The image in the package was exchanged or damaged."},
    {C::Another, "The same build has the same bytes: one of the two was changed."},
    {C::Mixed, "Parts of different builds do not go together."},
    {C::Changed, "What was verified then is not what is here now."},
    {C::Placeholder, "It stands for an image that is elsewhere."},
    {C::GivenPlaceholder, "It stands for an image that is elsewhere."},
    {C::LikeDevice, kForeign},
    {C::LikeBuildUnknown, "The order of update and patch differs."},
    {C::LikeWithoutGiven, "They may not go with the new build."},
    {C::UnknownPartition, "The phone would refuse the write."},
    {C::OtherKind, kWrongFile},
    {C::OtherPhone, kForeign},
    {C::OtherPartition, kWrongFile},
    {C::OtherHeader, kStays},
    {C::OtherForm, kWrongFile},
    {C::OtherBuild, "Kernel modules and system of another build do not go with this image."},
    {C::OtherSize, "The footer is looked for at the partition's end."},
    {C::Larger, "The write is refused where it does not fit."},
    {C::VbmetaStays, "A locked phone refuses the package's content; an unlocked one warns."},
    {C::RoomUnknown, "The phone may say in the middle of the plan that there is no room."},
    {C::RoomMade, "What goes is not on the phone afterwards."},
    {C::NoRoom, "The phone refuses the write."},
    {C::RollbackUnknown, "Whether a locked phone takes the build is not known."},
    {C::FileName, "A program in place of an image is a common trick."},
    {C::DoubledExtension,
     "Some programs hide the last ending: the file may be another than it seems."},
    {C::WipeNeeded, "The new system waits for ever for data that it cannot open."},
    {C::MountNotCovered, "The system stops where the partition is mounted."},
    {C::NotLocked, "Locking the bootloader would leave a phone that does not start."},
    {C::AcceptUnused, "A finding that was meant may have another code."},
    {C::PartitionSizeUnknown, "The write is refused where it does not fit."},
    {C::VbmetaUnchanged, "A locked phone would refuse the changed image."},
    {C::WayBackInKit, "The patched image alone does not lead back to stock."},
    {C::WayUnknown, "The plan has to guess how the phone is written."},
    {C::VbmetaNeeded, "The phone stops at power-on with its maker's own message."},
    {C::NoStartEdit, "The phone starts as before: nothing runs what the recipe put in."},
    {C::RamdiskMade, "A loader that passes the ramdisk over starts the system as before."},
    {C::DataUnreadable, "The owner's data may ask for an erase after the start."},
    {C::SkipList, "A system that mounts what is gone stops at its start."},
    {C::PhonesOwn, "An image of another build there does not go with these."},
    {C::RehearsalStops, "The phone on the bench would most likely do the same."},
    {C::RehearsalWarns, "It may be meant: an unlocked phone shows a warning at every start."},
    {C::RehearsalUnknown, "Nothing was seen that says it does."},
    {C::RehearsalBack, "The kit alone may not lead back to a phone that starts."},
    {C::PhoneNotAsExpected, "What was made for another phone may leave this one not starting."},

    {C::KitFile, "What would be written is not what was proven."},
    {C::KitFileExtra, "Somebody may write it by mistake."},
    {C::RecordChanged, "What was done to the phone is no longer sure."},
    {C::RemakeDiffers, "It was not made from what it names."},
    {C::RemakeFails, "Nothing proves what it was made from."},
    {C::RemakeVersion, "Whether the kit was changed cannot be told from them."},
    {C::SeenElsewhere, "It says nothing of whether this flash took."},
    {C::FactsDiffer, "Which of them is true cannot be told, so neither is used."},
    {C::UpdatesOn, "An update writes stock images over the patched ones."},
    {C::NothingSeen, "Nothing can be told from it."},

    {C::ProtectionMountVerification, "Nobody notices if something else changes a partition."},
    {C::ProtectionVerifiedBoot, "Any image is started, whoever wrote it."},
    {C::ProtectionEncryption, "Whoever holds the phone can read the owner's data."},
    {C::ProtectionSelinux, "Programs are not kept apart: the phone is open to all of them."},
    {C::ProtectionDebugging, "Whoever holds the phone unlocked can look into every program."},
    {C::EditConflict, "Only one of them is in the image."},
    {C::WayBackElsewhere, "Without the stock image there is no way back."},
    {C::VerifiedBoot, "A locked phone judges differently from an unlocked one."},
    {C::Restore, "The result may differ from what was expected."},
    {C::Repack, "The result may differ from what was expected."},
    {C::KeptWhole, "It can be replaced, but not edited inside."},
    {C::NowUnsigned, "A locked phone refuses it."},
    {C::ChainUnsigned, "Loaders refuse it when locked."},
    {C::KeyReadable, "Who has the key can sign images that your phones trust."},
    {C::SignedBlock, "The maker's loader refuses the image."},

    {C::NoSumLine, "A cut download looks like this."},
    {C::UnreadableFile, kDamaged},
    {C::UnreadablePackage, kDamaged},
    {C::UnreadableImage, kDamaged},
    {C::UnreadableChain, "What covers the images is not known."},
    {C::DamagedFooter, "A loader does not find it, either."},
    {C::NotPacked, kMayBeDamaged},
    {C::SuperGeometryBackup, kMayBeDamaged},
    {C::SuperMetadataBackup, kMayBeDamaged},
    {C::SuperUnreadable, "Logical partitions cannot be taken out."},
    {C::PartialUpdate, "The other partitions have to be the phone's own."},
    {C::GptBackup, "The dump may be damaged at its start."},
    {C::GptCut, "Those partitions are not in the dump."},
    {C::DamagedImage, "It does not start a phone."},
    {C::BytesBehind, "They are not in the image that was taken out."},
    {C::NoDigest, "Damage on the way here would not be noticed."},
    {C::EmptyPartition, "There is nothing to write."},
    {C::SignatureGone, "A recovery that checks signatures refuses the package."},
    {C::SignatureStale, "A recovery that checks signatures refuses the package."},
    {C::OneOfSeveral, "They may be for different variants of the phone."},
    {C::ContainerSum, kMayBeDamaged},
    {C::IncrementalPart, "Changes alone are no image."},

    {C::NoDevice, "Firmware cannot be compared with the phone."},
    {C::NoFirmware, "No kit is made for this phone."},
    {C::AddOnForThisMachine, "It does not run on the invented phones."},
};

constexpr bool whys_in_order() {
  for (std::size_t i = 0; i < std::size(kWhys); ++i)
    if (static_cast<std::size_t>(kWhys[i].code) != i) return false;
  return static_cast<std::size_t>(C::AddOnForThisMachine) + 1 == std::size(kWhys);
}
static_assert(whys_in_order(), "one row for each code, in their order");

}  // namespace

std::string_view why_of(FindingCode code) {
  return kWhys[static_cast<std::size_t>(code)].text;
}

}  // namespace wexlo
