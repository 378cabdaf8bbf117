#include "base/finding.hpp"

#include <algorithm>
#include <array>

namespace wexlo {
namespace {

using enum FindingArea;
using enum Level;
using C = FindingCode;

constexpr bool kNamed = true, kAny = false, kLocked = true;

/// A rule of a start: what has to hold.
constexpr FindingKind rule(C code, std::string_view name, Level level, bool locked,
                           std::string_view about, std::string_view to_do) {
  return {code, name, Start, level, false, locked, about, to_do};
}
constexpr FindingKind row(C code, std::string_view name, FindingArea area, Level level,
                          std::string_view about, std::string_view to_do, bool named = false) {
  return {code, name, area, level, named, false, about, to_do};
}

constexpr std::string_view kFetchAgain =
    "Fetch the package again, and compare its size and digest with the source's.";
constexpr std::string_view kOtherFirmware =
    "Take the firmware of this very phone. If you know better, --accept names this finding.";
constexpr std::string_view kStockImage = "Take the image from the stock package of the build.";

constexpr FindingKind kKinds[] = {
    rule(C::HeaderForm, "header-form", Problem, kAny,
         "magic and header version are known, header_size fits", kStockImage),
    rule(C::SectionBounds, "section-bounds", Problem, kAny,
         "page size is usual, every section lies in the file", kStockImage),
    rule(C::PartitionSize, "partition-size", Problem, kAny, "the image fits its partition",
         "Put less into it: the partition does not grow."),
    rule(C::FileLength, "file-length", Warning, kAny,
         "whole pages; with a footer as long as the partition", kStockImage),
    rule(C::TreeSection, "tree-section", Problem, kAny,
         "recovery_dtbo_offset is true, the dtb section reads", kStockImage),
    rule(C::IdDigest, "id-digest", Warning, kAny, "the header's id follows a known recipe",
         "wexlo repack makes the id again."),
    rule(C::Kernel, "kernel", Problem, kAny,
         "a kernel where one is needed, that decodes, with a banner", kStockImage),
    rule(C::AppendedTrees, "appended-trees", Problem, kAny,
         "device trees behind the kernel as in the stock image",
         "Put the stock device trees behind the kernel again."),
    rule(C::MakerPrefix, "maker-prefix", Problem, kAny,
         "headers before image and parts as stock, and true",
         "Patch the stock image with Wexlo: it keeps the maker's headers."),
    rule(C::EnforcingTrailer, "enforcing-trailer", Warning, kAny,
         "the trailer that the stock image has, in its place", kStockImage),
    rule(C::RamdiskPacking, "ramdisk-packing", Problem, kAny,
         "ramdisks decode, in a form that kernels unpack",
         "Pack the ramdisk as the stock image's is packed: wexlo repack does so."),
    rule(C::JoinedRamdisk, "joined-ramdisk", Problem, kAny,
         "what the loader joins decodes as one, with an init",
         "Look which ramdisk has /init: wexlo inspect shows what is joined."),
    rule(C::ArchiveOrder, "archive-order", Problem, kAny,
         "folders before what is in them, names once, a trailer",
         "wexlo unpack and wexlo repack write the archive in order."),
    rule(C::KernelModules, "kernel-modules", Warning, kAny,
         "listed modules are there and of the kernel's release",
         "Take kernel and modules of one build."),
    rule(C::MountTable, "mount-table", Problem, kAny,
         "fstab reads, and what it names for verification is there",
         "Compare the fstab with the stock image's: wexlo compare."),
    rule(C::TextForm, "text-form", Warning, kAny,
         "texts that a start reads end their lines as stock does",
         "Write the file again with plain line ends (no carriage returns)."),
    rule(C::FragmentTable, "fragment-table", Problem, kAny,
         "vendor_boot's table and its fragments agree", kStockImage),
    rule(C::VersionPair, "version-pair", Problem, kAny,
         "boot, init_boot and vendor_boot go together", "Take all images of one build."),
    rule(C::Bootconfig, "bootconfig", Problem, kAny, "bootconfig parses and is short enough",
         "Correct the line that the message names."),
    rule(C::VerifiedStruct, "verified-struct", Problem, kAny,
         "footers and verified-boot structs as loaders want",
         "wexlo seal makes footers and structs again."),
    rule(C::ImageDigest, "image-digest", Problem, kLocked,
         "the image is the one that its digest is of",
         "An unlocked phone goes on. For a locked one: wexlo seal with a key that it trusts."),
    rule(C::Signature, "signature", Problem, kLocked, "signed, with the key that is trusted for it",
         "An unlocked phone goes on. For a locked one: wexlo seal with a key that it trusts."),
    rule(C::ChainFlags, "chain-flags", Problem, kAny, "flags in the top-level struct alone",
         "Set flags in vbmeta, not in a struct that it chains."),
    rule(C::RollbackIndex, "rollback-index", Problem, kLocked,
         "not lower than what the phone has stored", "Take a build that is as new as the phone's."),
    rule(C::PatchLevel, "patch-level", Warning, kAny,
         "security patch level not older, and the same everywhere",
         "Take all images of the build that the phone runs."),
    rule(C::OsVersion, "os-version", Warning, kAny, "system version not older",
         "Take all images of the build that the phone runs."),
    rule(C::SlotState, "slot-state", Problem, kAny,
         "all of one build, in a slot that will be started",
         "Choose a slot that starts, and write it with images of one build."),
    rule(C::MergePending, "merge-pending", Warning, kAny, "no update is being merged",
         "Let the phone start and finish its update before anything is written."),
    rule(C::LockedChange, "locked-change", Problem, kLocked,
         "a locked phone has nothing changed without its key",
         "Keep the bootloader unlocked while changed images are on the phone."),
    rule(C::SystemDigest, "system-digest", Warning, kAny,
         "system partitions are what their hash trees say",
         "Take the image out of the package again; wexlo check --repair repairs single blocks."),
    rule(C::ErrorCorrection, "error-correction", Warning, kAny,
         "the error correction codes are those of the data", kStockImage),
    rule(C::SuperTables, "super-tables", Problem, kAny, "every copy of super's tables is valid",
         kFetchAgain),
    rule(C::RamdiskUnused, "ramdisk-unused", Note, kAny,
         "what is changed in the ramdisk has an effect",
         "Ask wexlo prepare which image has the first ramdisk."),
    rule(C::DeviceIdentity, "device-identity", Warning, kAny,
         "names and addresses as in the stock image", "Take the image of this very phone."),

    row(C::SlotChosen, "slot-chosen", Look, Note, "both slots are here, and one was judged",
        "--slot judges the other."),
    row(C::VerificationOff, "verification-off", Look, Warning,
        "flags of vbmeta switch verification off", "Flash the stock vbmeta to have it on again."),
    row(C::NotAvailable, "not-available", Look, Note,
        "partitions that a struct covers and that are not here",
        "Give the whole firmware, or --against it, to have them looked at."),
    row(C::NoTopLevel, "no-top-level", Look, Note, "there is no vbmeta here",
        "--against FIRMWARE judges the whole chain."),
    row(C::OlderSignature, "older-signature", Look, Warning,
        "the older boot signature behind the image is not valid for it",
        "wexlo seal makes it again, or takes it out."),
    row(C::SelinuxPermissive, "selinux-permissive", Look, Warning,
        "something sets SELinux to permissive", "Look whether that is meant."),
    row(C::RamdiskUnread, "ramdisk-unread", Look, Warning, "a ramdisk does not read", kFetchAgain),
    row(C::AlteredImage, "altered-image", Look, Warning,
        "the image was changed by another tool than Wexlo", kStockImage),

    row(C::FitDevice, "device", Fit, Problem,
        "neither codename nor product is one of the firmware's devices", kOtherFirmware),
    row(C::FitBuild, "build", Fit, Problem,
        "the phone runs another build; with --like and a new build only an older package counts",
        "Take the package of the build that the phone runs, or update the phone first."),
    row(C::FitPatchLevel, "patch-level", Fit, Problem,
        "the firmware's security patch level is older; a warning where nothing binds the phone",
        "Take a package that is as new as the phone's build."),
    row(C::FitRollback, "rollback", Fit, Problem,
        "a rollback index is below the phone's stored one; a warning on an unlocked phone",
        "Take a package that is as new as the phone's build.", kNamed),
    row(C::FitAntiRollback, "anti-rollback", Fit, Problem,
        "the maker's number is below the phone's",
        "Take a newer package: an older one may leave "
        "the phone without anything that starts."),
    row(C::FitRegion, "region", Fit, Problem, "neither region nor variant is the firmware's",
        kOtherFirmware),
    row(C::FitArchitecture, "architecture", Fit, Problem, "for another processor", kOtherFirmware),
    row(C::FitSlots, "slots", Fit, Problem, "for another number of slots", kOtherFirmware),
    row(C::FitLayout, "layout", Fit, Problem,
        "init_boot or vendor_boot has no place on the phone, or the phone has an init_boot and the "
        "firmware none",
        kOtherFirmware),
    row(C::FitHeaderVersion, "header-version", Fit, Problem,
        "a boot header of 3 or 4 without vendor_boot on the phone, or 0 to 2 with it",
        kOtherFirmware),
    row(C::FitDemand, "demand", Fit, Problem,
        "the package itself demands another value; a warning for a package written whole",
        kOtherFirmware, kNamed),
    row(C::FitRecipeNeeds, "recipe-needs", Fit, Problem, "a recipe's [needs] says so",
        "Take the recipe that is made for this phone.", kNamed),
    row(C::FitGivenArchitecture, "given-architecture", Fit, Problem,
        "the image given is for another processor", "Give the file for this phone.", kNamed),
    row(C::FitGivenSlots, "given-slots", Fit, Problem,
        "the image given is for another number of slots", "Give the file for this phone.", kNamed),
    row(C::FitGivenDevice, "given-device", Fit, Problem, "the package given is for another device",
        "Give the file for this phone.", kNamed),
    row(C::FitGivenHeader, "given-header", Fit, Problem,
        "the image given has another header version than the firmware's",
        "Give the file for this phone.", kNamed),
    row(C::FitGivenBuild, "given-build", Fit, Problem, "the image given is of another build",
        "Give the file of the firmware's build.", kNamed),
    row(C::FitGivenPatchLevel, "given-patch-level", Fit, Warning,
        "the image given is older than the phone's build", "Give a newer file.", kNamed),
    row(C::FitPartitionSize, "partition-size", Fit, Problem,
        "the image is larger than its partition", "Put less into it.", kNamed),
    row(C::FitOtherSlot, "other-slot", Fit, Problem,
        "both slots are written, and the other one has another build",
        "--slots current writes only the one that the phone starts from."),
    row(C::FitUpdateRunning, "update-running", Fit, Warning,
        "an over-the-air update waits; a problem while it is being merged",
        "Let the phone start and finish its update first."),
    row(C::FitBatteryLow, "battery-low", Fit, Problem,
        "the bootloader says that the battery is too low", "Charge the phone."),
    row(C::FitBattery, "battery", Fit, Warning, "the battery is below 30 %", "Charge the phone."),
    row(C::FitWipes, "wipes", Fit, Note, "the package says that it wipes the phone",
        "The owner has to have a copy of what matters."),
    row(C::FitDowngrade, "downgrade", Fit, Note, "the package says that it is a downgrade",
        "Most phones want their data erased for it."),

    row(C::Patched, "patched", Kit, Problem, "the firmware's image was patched by Wexlo before",
        "wexlo restore gives the stock image again.", kNamed),
    row(C::Altered, "altered", Kit, Problem, "the firmware's image was changed by another tool",
        kStockImage, kNamed),
    row(C::NotCovered, "not-covered", Kit, Problem,
        "the signed struct in the firmware is for another image than the one in it; a warning "
        "where it is unsigned",
        kFetchAgain, kNamed),
    row(C::Another, "another", Kit, Problem,
        "said to be of the older kit's build, and the bytes are others", kFetchAgain, kNamed),
    row(C::Mixed, "mixed", Kit, Problem,
        "the image is of another build than those beside it; a warning when it is as new",
        "Put images of one build together.", kNamed),
    row(C::Changed, "changed", Kit, Problem, "the image is not the one that was taken out",
        "Take it out of its package again.", kNamed),
    row(C::Placeholder, "placeholder", Kit, Problem,
        "fewer than 4096 bytes where an image should be", "Take the full package.", kNamed),
    row(C::GivenPlaceholder, "given-placeholder", Kit, Problem,
        "the file given is a placeholder, not an image", "Give the image itself.", kNamed),
    row(C::LikeDevice, "like-device", Kit, Problem, "the older kit is for another phone",
        "Give the kit of this phone."),
    row(C::LikeBuildUnknown, "like-build-unknown", Kit, Warning,
        "the package does not say its build, so whether it is an update is not known",
        "If it is one, the phone has to take it first."),
    row(C::LikeWithoutGiven, "like-without-given", Kit, Note,
        "the older kit wrote images that were given then: they are not taken over",
        "Give those of the new build with --with."),
    row(C::UnknownPartition, "unknown-partition", Kit, Problem,
        "neither the firmware nor the sheet has this partition", "Check the partition's name.",
        kNamed),
    row(C::OtherKind, "other-kind", Kit, Problem, "the file given is of another kind",
        "Give the image that belongs into this partition.", kNamed),
    row(C::OtherPhone, "other-phone", Kit, Problem, "the image given is another phone's",
        "Give the image for this phone.", kNamed),
    row(C::OtherPartition, "other-partition", Kit, Problem,
        "the image's own footer is for another partition", "Give the image for this partition.",
        kNamed),
    row(C::OtherHeader, "other-header", Kit, Problem, "the image has another header version",
        "Give the image for this phone.", kNamed),
    row(C::OtherForm, "other-form", Kit, Problem,
        "one of the two images has a kernel, the other has none",
        "Give the image for this partition.", kNamed),
    row(C::OtherBuild, "other-build", Kit, Problem,
        "the image is of another build than the package", "Give the image of the package's build.",
        kNamed),
    row(C::OtherSize, "other-size", Kit, Problem,
        "the image's size is not its partition's, and a footer stands at the partition's end",
        "wexlo seal --partition-size makes an image of the right size.", kNamed),
    row(C::Larger, "larger", Kit, Warning, "the image is larger than the one that it replaces",
        "It may not fit its partition: compare with the phone's."),
    row(C::VbmetaStays, "vbmeta-stays", Kit, Note,
        "vbmeta in the package covers the image that was there",
        "wexlo check on the output tells what a phone makes of it."),
    row(C::RoomUnknown, "room-unknown", Kit, Warning,
        "the size of super is not known, so whether there is room is not, either",
        "Add [super] size to the phone's sheet.", kNamed),
    row(C::RoomMade, "room-made", Kit, Warning, "something has to go to make room in super",
        "Read in the plan what goes."),
    row(C::NoRoom, "no-room", Kit, Problem, "super has no room for the image, whatever goes",
        "Take a smaller image.", kNamed),
    row(C::RollbackUnknown, "rollback-unknown", Kit, Warning,
        "the package's rollback indexes do not read", kFetchAgain),
    row(C::FileName, "name", Kit, Problem, "the file is named as a program or a page",
        "Give the image itself.", kNamed),
    row(C::DoubledExtension, "doubled-extension", Kit, Warning, "the file's name has two endings",
        "Look whether it is the file that you meant."),
    row(C::WipeNeeded, "wipe-needed", Kit, Problem,
        "another system cannot read the data of the one before it",
        "Add --wipe when the owner agrees."),
    row(C::MountNotCovered, "mount-not-covered", Kit, Problem,
        "the partition is verified when it is mounted, and vbmeta covers the maker's image only",
        "Give a recipe that sets hashtree-disabled in vbmeta, or a vbmeta of your own.", kNamed),
    row(C::NotLocked, "not-locked", Kit, Warning,
        "the kit is signed with your key, and a locked phone would not start it",
        "Read why in the message."),
    row(C::AcceptUnused, "accept-unused", Kit, Note, "--accept names a finding that is not there",
        "Check the code."),
    row(C::PartitionSizeUnknown, "partition-size-unknown", Kit, Warning,
        "the image is larger than stock, and how large the partition is is not known",
        "The plan asks the phone; its sheet answers before."),
    row(C::VbmetaUnchanged, "vbmeta-unchanged", Kit, Note,
        "vbmeta is left as it is: an unlocked phone warns and starts", ""),
    row(C::WayBackInKit, "way-back-in-kit", Kit, Note, "the way back is the kit's stock copy",
        "Keep the kit."),

    row(C::KitFile, "kit-file", Kit, Problem, "a file of the kit is gone or changed",
        "Make the kit again."),
    row(C::KitFileExtra, "kit-file-extra", Kit, Warning,
        "a file in the kit's folder that is not of it", "Take it out."),

    row(C::ProtectionMountVerification, "protection-mount-verification", Patch, Warning,
        "partitions are mounted without being verified", "It is what the recipe asks for."),
    row(C::ProtectionVerifiedBoot, "protection-verified-boot", Patch, Warning,
        "the loader verifies nothing any more", "It is what the recipe asks for."),
    row(C::ProtectionEncryption, "protection-encryption", Patch, Warning,
        "the user's data is not encrypted any more", "It is what the recipe asks for."),
    row(C::ProtectionSelinux, "protection-selinux", Patch, Warning, "SELinux does not enforce",
        "It is what the recipe asks for."),
    row(C::ProtectionDebugging, "protection-debugging", Patch, Warning,
        "every program can be debugged", "It is what the recipe asks for."),
    row(C::EditConflict, "edit-conflict", Patch, Warning, "two edits want different things",
        "The later one has its way: change their order, or leave one out."),
    row(C::WayBackElsewhere, "way-back-elsewhere", Patch, Warning,
        "the patched image alone does not restore the stock image", "Keep the stock image."),
    row(C::VerifiedBoot, "verified-boot", Patch, Note, "what the patch means for verified boot",
        ""),
    row(C::Restore, "restore", Patch, Warning, "something to know about what was restored", ""),
    row(C::Repack, "repack", Patch, Note, "something was put together in another way", ""),
    row(C::KeptWhole, "kept-whole", Patch, Note, "a part is kept as one file", ""),
    row(C::NowUnsigned, "now-unsigned", Patch, Warning,
        "the struct was signed, and is not any more", "Give a key with --key."),
    row(C::ChainUnsigned, "chain-unsigned", Patch, Warning,
        "a chained struct is signed with another key than the chain names",
        "Seal both together, or name the key with --chain."),
    row(C::KeyReadable, "key-readable", Patch, Warning, "others may read the signing key",
        "chmod 600 it."),

    row(C::NoSumLine, "no-sum-line", Package, Warning,
        "named as if its last line were its sum, and there is none", kFetchAgain),
    row(C::UnreadableFile, "unreadable-file", Package, Warning,
        "a file of the package does not read", kFetchAgain),
    row(C::UnreadablePackage, "unreadable-package", Package, Warning,
        "a package in the package does not read", kFetchAgain),
    row(C::UnreadableImage, "unreadable-image", Package, Warning, "an image does not read",
        kFetchAgain),
    row(C::UnreadableChain, "unreadable-chain", Package, Warning,
        "the verified-boot chain does not read", kFetchAgain),
    row(C::DamagedFooter, "damaged-footer", Package, Warning,
        "the verified-boot footer does not read", kFetchAgain),
    row(C::NotPacked, "not-packed", Package, Warning,
        "named as packed, and neither that nor anything known", kFetchAgain),
    row(C::SuperGeometryBackup, "super-geometry-backup", Package, Warning,
        "super's first geometry is bad, its backup was used", kFetchAgain),
    row(C::SuperMetadataBackup, "super-metadata-backup", Package, Warning,
        "super's first tables are bad, their backup was used", kFetchAgain),
    row(C::SuperUnreadable, "super-unreadable", Package, Warning, "super does not read",
        kFetchAgain),
    row(C::PartialUpdate, "partial-update", Package, Note,
        "the package holds some partitions alone", "Take the full package where it does not do."),
    row(C::GptBackup, "gpt-backup", Package, Warning,
        "the first partition table is bad, its backup was used", kFetchAgain),
    row(C::GptCut, "gpt-cut", Package, Warning, "partitions lie behind the end of the dump",
        "Read the whole disk."),
    row(C::DamagedImage, "damaged-image", Package, Warning,
        "an image that was taken out is damaged", kFetchAgain),
    row(C::BytesBehind, "bytes-behind", Package, Warning, "bytes behind the packed stream", ""),
    row(C::NoDigest, "no-digest", Package, Warning, "the package promises nothing of an image", ""),
    row(C::EmptyPartition, "empty-partition", Package, Note, "a partition of no bytes", ""),
    row(C::SignatureGone, "signature-gone", Package, Warning,
        "the package's signature as a whole is left out: it would not be valid",
        "A recovery that checks it refuses the package."),
    row(C::SignatureStale, "signature-stale", Package, Warning,
        "the package signs its members, and the signatures of replaced ones are not valid",
        "Who checks them refuses the package."),

    row(C::NoDevice, "no-device", Other, Warning, "the answer names no device",
        "Add it to the sheet by hand."),
    row(C::NoFirmware, "no-firmware", Other, Problem, "no firmware of the tray fits the phone",
        "Add the package of its build to the tray."),
    row(C::AddOnForThisMachine, "add-on-for-this-machine", Other, Warning,
        "the demo's add-on is for this machine's processor", ""),
};

constexpr bool in_order() {
  for (std::size_t i = 0; i < std::size(kKinds); ++i)
    if (static_cast<std::size_t>(kKinds[i].code) != i) return false;
  return static_cast<std::size_t>(C::AddOnForThisMachine) + 1 == std::size(kKinds);
}
static_assert(in_order(), "one row for each code, in their order");

}  // namespace

std::string_view level_name(Level level) {
  constexpr std::array<std::string_view, 3> names{"note", "warning", "problem"};
  return names[static_cast<std::size_t>(level)];
}

std::span<const FindingKind> finding_kinds() {
  return kKinds;
}

const FindingKind& kind_of(FindingCode code) {
  return kKinds[static_cast<std::size_t>(code)];
}

std::vector<const FindingKind*> find_kinds(std::string_view name) {
  std::vector<const FindingKind*> out;
  std::size_t longest = 0;
  for (const FindingKind& one : kKinds) {
    const bool longer = one.named && name.starts_with(one.name) && name.size() > one.name.size() &&
                        name[one.name.size()] == '-';
    if (one.name != name && !longer) continue;
    // "given-build-boot" is about given-build, not about some "given".
    if (one.name.size() < longest) continue;
    if (one.name.size() > longest) out.clear();
    longest = one.name.size();
    out.push_back(&one);
  }
  return out;
}

std::vector<const FindingKind*> kinds_of(FindingArea area) {
  std::vector<const FindingKind*> out;
  for (const FindingKind& one : kKinds)
    if (one.area == area) out.push_back(&one);
  return out;
}

std::string FindingId::text() const {
  std::string out(kind_of(code).name);
  if (!about.empty()) out += "-" + about;
  return out;
}

}  // namespace wexlo
