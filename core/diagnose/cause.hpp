#pragma once
/// Why a phone is not as it should be after a flash: a closed list. docs/diagnose.md has the same
/// rows; for each of them a test builds the case.

#include <span>
#include <string_view>

namespace wexlo {

enum class Cause {
  WrongSlot,
  SlotMarked,
  HalfWritten,
  WrongImage,  ///< of another partition, or none: the loader cannot use it
  OtherVariant,
  OtherBuild,
  OtherBoard,
  StaleDigest,
  FooterLost,
  LockedPhone,
  Rollback,
  RamdiskPacking,
  RamdiskJoint,
  KernelPacking,
  FirstProgram,
  MountTableForm,
  MountTableLacks,
  OtherRamdisk,
  SkipWord,
  RecoveryRestored,
  ModuleGeneration,
  PatchLevel,
  DataKeys,
  HashTree,
  SkipList,
  HalfUpdate,
  SuperFull,
  ChangedForUpdate,
};

/// What takes the phone back to a state in which it starts.
enum class WayOut {
  PutBack,        ///< the stock images of what was written
  ThisSlot,       ///< the images into the slot that it starts from; or the other slot chosen again
  WriteAgain,     ///< the same images once more
  RightImages,    ///< a kit of the right firmware
  Seal,           ///< the same images, digests and footers renewed
  MakersPackage,  ///< the whole stock package, by recovery: the bootloader writes nothing
  NewerBuild,     ///< images of the build that the phone runs
  TreesAlone,     ///< a vbmeta that switches the hash trees off and leaves verification on
  Recovery,       ///< the image once more, and recovery started before the system
  MakeAgain,      ///< the kit made again, with the recipe corrected
  FinishUpdate,
  FreeRoom,
};

struct CauseRow {
  Cause cause;
  std::string_view code;   ///< "wrong-slot"
  std::string_view about;  ///< a sentence
  std::string_view look;   ///< one look that tells it from others, a sentence
  WayOut way;
};
[[nodiscard]] std::span<const CauseRow> cause_rows();
[[nodiscard]] const CauseRow& row_of(Cause cause);

struct WayRow {
  WayOut way;
  std::string_view text;  ///< sentences; `{back}` stands for the command that puts stock back
  bool keeps_data = true;
};
[[nodiscard]] const WayRow& row_of(WayOut way);

}  // namespace wexlo
