#pragma once
/// Findings: what a person should know of something that was looked at. All kinds of them stand in
/// one registry, with what each means and what to do about it: docs/codes.md is made from it.

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace wexlo {

/// How much a finding weighs.
enum class Level : std::uint8_t {
  Note,     ///< good to know
  Warning,  ///< trouble is likely
  Problem,  ///< it stops the job, or the phone
};
[[nodiscard]] std::string_view level_name(Level level);

/// Every kind of finding; in the order of the registry.
enum class FindingCode : std::uint8_t {
  // rules of `check`: what must hold for an image to start
  HeaderForm,
  SectionBounds,
  PartitionSize,
  FileLength,
  TreeSection,
  IdDigest,
  Kernel,
  AppendedTrees,
  MakerPrefix,
  EnforcingTrailer,
  RamdiskPacking,
  JoinedRamdisk,
  ArchiveOrder,
  KernelModules,
  MountTable,
  TextForm,
  FragmentTable,
  VersionPair,
  Bootconfig,
  VerifiedStruct,
  ImageDigest,
  Signature,
  ChainFlags,
  RollbackIndex,
  PatchLevel,
  OsVersion,
  SlotState,
  MergePending,
  LockedChange,
  SystemDigest,
  ErrorCorrection,
  SuperTables,
  RamdiskUnused,
  DeviceIdentity,
  LoadOverlap,
  ProgramPages,
  // what `check` and `inspect` tell besides
  SlotChosen,
  VerificationOff,
  NotAvailable,
  NoTopLevel,
  OlderSignature,
  SelinuxPermissive,
  RamdiskUnread,
  AlteredImage,
  // the fit of a kit: the firmware against the phone's sheet
  FitDevice,
  FitBuild,
  FitPatchLevel,
  FitRollback,
  FitAntiRollback,
  FitRegion,
  FitArchitecture,
  FitSlots,
  FitLayout,
  FitHeaderVersion,
  FitDemand,
  FitRecipeNeeds,
  FitGivenArchitecture,
  FitGivenSlots,
  FitGivenDevice,
  FitGivenHeader,
  FitGivenBuild,
  FitGivenPatchLevel,
  FitPartitionSize,
  FitOtherSlot,
  FitUpdateRunning,
  FitBatteryLow,
  FitBattery,
  FitWipes,
  FitDowngrade,
  // what else is found while a kit is made
  Patched,
  Altered,
  NotCovered,
  Another,
  Mixed,
  Changed,
  Placeholder,
  GivenPlaceholder,
  LikeDevice,
  LikeBuildUnknown,
  LikeWithoutGiven,
  UnknownPartition,
  OtherKind,
  OtherPhone,
  OtherPartition,
  OtherHeader,
  OtherForm,
  OtherBuild,
  OtherSize,
  Larger,
  VbmetaStays,
  RoomUnknown,
  RoomMade,
  NoRoom,
  RollbackUnknown,
  FileName,
  DoubledExtension,
  WipeNeeded,
  MountNotCovered,
  NotLocked,
  AcceptUnused,
  PartitionSizeUnknown,
  VbmetaUnchanged,
  WayBackInKit,
  WayUnknown,
  VbmetaNeeded,
  NoStartEdit,
  RamdiskMade,
  DataUnreadable,
  SkipList,
  PhonesOwn,
  RehearsalStops,
  RehearsalWarns,
  RehearsalUnknown,
  RehearsalBack,
  PhoneNotAsExpected,
  // of a kit that is there
  KitFile,
  KitFileExtra,
  RecordChanged,
  RemakeDiffers,
  RemakeFails,
  RemakeVersion,
  // a phone after the flash
  SeenElsewhere,
  FactsDiffer,
  UpdatesOn,
  NothingSeen,
  // patching, restoring, sealing
  ProtectionMountVerification,
  ProtectionVerifiedBoot,
  ProtectionEncryption,
  ProtectionSelinux,
  ProtectionDebugging,
  EditConflict,
  WayBackElsewhere,
  VerifiedBoot,
  Restore,
  Repack,
  KeptWhole,
  NowUnsigned,
  ChainUnsigned,
  KeyReadable,
  SignedBlock,
  // packages
  NoSumLine,
  UnreadableFile,
  UnreadablePackage,
  UnreadableImage,
  UnreadableChain,
  DamagedFooter,
  NotPacked,
  SuperGeometryBackup,
  SuperMetadataBackup,
  SuperUnreadable,
  PartialUpdate,
  GptBackup,
  GptCut,
  DamagedImage,
  BytesBehind,
  NoDigest,
  EmptyPartition,
  SignatureGone,
  SignatureStale,
  OneOfSeveral,
  ContainerSum,
  IncrementalPart,
  // the rest
  NoDevice,
  NoFirmware,
  AddOnForThisMachine,
};

/// What a kind of finding is about, for lists.
enum class FindingArea : std::uint8_t { Start, Look, Fit, Kit, Patch, Package, Other };

/// One row of the registry.
struct FindingKind {
  FindingCode code;
  std::string_view name;  ///< its spelling in JSON and for --accept
  FindingArea area;
  Level level;               ///< usual
  bool named = false;        ///< the spelling ends with what it is about: "no-room-system"
  bool locked_only = false;  ///< concerns a locked phone alone
  std::string_view about;    ///< of a start: what has to hold; of others: what was found. A clause
  std::string_view to_do;    ///< sentences; empty: nothing
};
[[nodiscard]] std::span<const FindingKind> finding_kinds();
[[nodiscard]] const FindingKind& kind_of(FindingCode code);
/// Why it matters: a sentence.
[[nodiscard]] std::string_view why_of(FindingCode code);
/// By its spelling, with or without what it is about: `check` and the fit share a few.
[[nodiscard]] std::vector<const FindingKind*> find_kinds(std::string_view name);
[[nodiscard]] std::vector<const FindingKind*> kinds_of(FindingArea area);

/// A code, and the partition or the like that it is about where its spelling has that.
struct FindingId {
  FindingCode code;
  std::string about{};

  FindingId(FindingCode one) : code(one) {}  // NOLINT: a code alone is one
  FindingId(FindingCode one, std::string what) : code(one), about(std::move(what)) {}
  [[nodiscard]] std::string text() const;  ///< "no-room-system"
  bool operator==(const FindingId&) const = default;
};

/// A sentence on what was done to an image.
struct Remark {
  std::string text;
  bool key_cures = false;  ///< it is about a signature that an owner's key makes valid again

  Remark(std::string sentence, bool cures = false)  // NOLINT: a sentence alone is one
      : text(std::move(sentence)), key_cures(cures) {}
  Remark(const char* sentence, bool cures = false)  // NOLINT
      : text(sentence), key_cures(cures) {}
  bool operator==(const Remark&) const = default;
};

struct Finding {
  Level level = Level::Note;
  FindingId id;
  std::string message;  ///< sentences
  std::string where{};  ///< a partition, a file; empty: the whole
};
/// With the level that is usual for its code.
[[nodiscard]] Finding usual_finding(FindingId id, std::string message, std::string where = {});

}  // namespace wexlo
