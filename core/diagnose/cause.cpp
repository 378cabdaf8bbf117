#include "diagnose/cause.hpp"

#include <algorithm>
#include <array>

namespace wexlo {
namespace {

using enum Cause;

constexpr std::array kRows{
    CauseRow{WrongSlot, "wrong-slot", "The phone starts from the slot that was not written.",
             "Which slot does it start from? The bootloader says it: current-slot.",
             WayOut::ThisSlot},
    CauseRow{SlotMarked, "slot-marked",
             "The slot is marked as one that does not start, and is passed over.",
             "Ask the bootloader: slot-unbootable and slot-retry-count of this slot.",
             WayOut::ThisSlot},
    CauseRow{HalfWritten, "half-written", "A write did not come to its end.",
             "What does the flash log say of the last write?", WayOut::WriteAgain},
    CauseRow{WrongImage, "wrong-image", "An image is none that the loader can use in its place.",
             "What is it? wexlo inspect IMAGE says its kind and partition.", WayOut::PutBack},
    CauseRow{OtherVariant, "other-variant", "The images are for another phone, or a sibling of it.",
             "Compare model and variant on the phone's own label with the firmware's name.",
             WayOut::RightImages},
    CauseRow{OtherBuild, "other-build", "The images are not all of one build.",
             "Which build does each image name? wexlo inspect tells it for each.",
             WayOut::RightImages},
    CauseRow{OtherBoard, "other-board",
             "Device trees are of another board: parts of the phone are not found.",
             "Compare model and compatible of the device trees with the stock ones: wexlo compare.",
             WayOut::PutBack},
    CauseRow{StaleDigest, "stale-digest",
             "An image was changed, and the vbmeta that goes with it still names the older digest.",
             "Does wexlo check name a digest-mismatch, with verification still on?", WayOut::Seal},
    CauseRow{FooterLost, "footer-lost",
             "A partition that vbmeta chains has lost its verified-boot footer.",
             "Does wexlo check find a footer at the end of that image?", WayOut::Seal},
    CauseRow{LockedPhone, "locked-phone",
             "The bootloader is locked: it starts and writes nothing that its maker did not sign.",
             "What does the bootloader's screen say of its lock state?", WayOut::MakersPackage},
    CauseRow{Rollback, "rollback",
             "A rollback index is lower than the one that the phone has stored.",
             "Is the firmware older than what the phone ran before? wexlo check --rollback.",
             WayOut::NewerBuild},
    CauseRow{RamdiskPacking, "ramdisk-packing",
             "A ramdisk is packed in a form that this kernel does not unpack.",
             "How is the stock ramdisk packed? wexlo compare tells both.", WayOut::MakeAgain},
    CauseRow{
        RamdiskJoint, "ramdisk-joint", "Two ramdisks that the loader joins do not unpack as one.",
        "Are both packed in the same way? wexlo check says what is joined.", WayOut::MakeAgain},
    CauseRow{KernelPacking, "kernel-packing", "The kernel is not packed as the loader unpacks it.",
             "Compare the kernel's packing with the stock one, its size word too: wexlo compare.",
             WayOut::MakeAgain},
    CauseRow{FirstProgram, "first-program",
             "The first program, /init, is missing or cannot be run: mode, processor or page size.",
             "Look at /init: wexlo inspect tells mode and processor.", WayOut::MakeAgain},
    CauseRow{MountTableForm, "mount-table-form",
             "The mount table does not read: its lines end in carriage returns, or lack columns.",
             "Look at the fstab with an editor that shows line ends.", WayOut::MakeAgain},
    CauseRow{MountTableLacks, "mount-table-lacks",
             "The mount table lacks a mount that stock has, or that what was put in needs.",
             "Compare the fstab with the stock one: wexlo compare.", WayOut::MakeAgain},
    CauseRow{OtherRamdisk, "other-ramdisk",
             "What was put in is in an image that the first program does not come from.",
             "Which image does the first ramdisk come from? wexlo inspect FIRMWARE says it.",
             WayOut::RightImages},
    CauseRow{SkipWord, "skip-word",
             "The kernel is told to skip the ramdisk: what was put into it never runs.",
             "Does the kernel still hold the word skip_initramfs?", WayOut::MakeAgain},
    CauseRow{RecoveryRestored, "recovery-restored",
             "The system started first and wrote its own recovery back.",
             "Was recovery started straight after the write, before the system?", WayOut::Recovery},
    CauseRow{ModuleGeneration, "module-generation",
             "Kernel modules are of another generation than the kernel.",
             "Compare the modules' version magic with the kernel's release.", WayOut::RightImages},
    CauseRow{PatchLevel, "patch-level",
             "The images have an older patch level than the user's data is bound to.",
             "Which patch level did the phone's settings show before?", WayOut::NewerBuild},
    CauseRow{
        DataKeys, "data-keys",
        "The key store withholds the keys of the user's data: with verification off it is told "
        "no patch level, or another state.",
        "Is os_version in the boot header 0, and verification switched off by vbmeta's flags?",
        WayOut::TreesAlone},
    CauseRow{HashTree, "hash-tree", "A system partition is not the one that its hash tree says.",
             "Does wexlo check say system-digest of it?", WayOut::PutBack},
    CauseRow{SkipList, "skip-list",
             "Another system is there, and its skip list does not name the partitions that went.",
             "Is there a skip list in the generic system, and does it name product and system_ext?",
             WayOut::MakeAgain},
    CauseRow{HalfUpdate, "half-update", "An over-the-air update was not finished.",
             "Ask the bootloader: snapshot-update-status.", WayOut::FinishUpdate},
    CauseRow{SuperFull, "super-full", "Super has no room for the image.",
             "Which logical partitions are there? The bootloader lists them with their sizes.",
             WayOut::FreeRoom},
    CauseRow{ChangedForUpdate, "changed-for-update",
             "The update wants stock images, and finds changed ones.",
             "Which partition does the update's own message name?", WayOut::PutBack},
};

constexpr std::array kWays{
    WayRow{WayOut::PutBack, "{back}"},
    WayRow{WayOut::ThisSlot,
           "Choose the slot that was written, at the bootloader; or write the images into the slot "
           "that the phone starts from. Or: {back}"},
    WayRow{WayOut::WriteAgain, "Write it once more, with another cable or port. Or: {back}"},
    WayRow{WayOut::RightImages,
           "{back} Then make the kit of the firmware that is for this phone and build."},
    WayRow{WayOut::Seal,
           "Renew digests and footers (wexlo seal), or have the kit switch verification "
           "off. Until then: {back}"},
    WayRow{WayOut::MakersPackage,
           "A locked bootloader writes nothing: install the whole stock package of this build in "
           "recovery, which keeps the data. Unlocking is the other way, and it erases them."},
    WayRow{
        WayOut::NewerBuild,
        "Write images of the build that the phone ran before, or of a later one: make the kit of "
        "that firmware."},
    WayRow{WayOut::TreesAlone,
           "Write a vbmeta that switches the hash trees off alone (flags 1). Or: {back}"},
    WayRow{WayOut::Recovery,
           "Write recovery once more, and start recovery straight after it, before the system."},
    WayRow{WayOut::MakeAgain, "{back} Then correct the recipe and make the kit again."},
    WayRow{WayOut::FinishUpdate,
           "Cancel the update at the bootloader (snapshot-update:cancel), then: {back}"},
    WayRow{
        WayOut::FreeRoom,
        "Delete leftovers of an update (-cow) and partitions that the system does not need, then "
        "write again."},
};

}  // namespace

std::span<const CauseRow> cause_rows() {
  return kRows;
}

const CauseRow& row_of(Cause cause) {
  return *std::ranges::find(kRows, cause, &CauseRow::cause);
}

const WayRow& row_of(WayOut way) {
  return *std::ranges::find(kWays, way, &WayRow::way);
}

}  // namespace wexlo
