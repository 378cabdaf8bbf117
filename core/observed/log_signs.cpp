#include "observed/log_signs.hpp"

#include <array>

namespace wexlo {
namespace {

struct SignRow {
  std::string_view text;  ///< that the line holds
  LogSign sign;
  std::string_view too{};  ///< that it holds as well
};
/// The first that fits counts: what says more stands before what says less.
constexpr std::array kRows{
    SignRow{"Failed to execute /init (error -13)", LogSign::InitMode},
    SignRow{"init failed (error -13)", LogSign::InitMode},
    SignRow{"Failed to execute /init (error -8)", LogSign::ExecFormat},
    SignRow{"init failed (error -8)", LogSign::ExecFormat},
    SignRow{"Exec format error", LogSign::ExecFormat},
    SignRow{"Failed to execute /init", LogSign::NoInit},
    SignRow{"No working init found", LogSign::NoInit},
    SignRow{"Attempted to kill init", LogSign::InitDied},
    SignRow{"Initramfs unpacking failed", LogSign::RamdiskUnpack},
    SignRow{"rootfs image is not initramfs", LogSign::RamdiskUnpack},
    SignRow{"invalid magic at start of compressed archive", LogSign::RamdiskUnpack},
    SignRow{"Unable to mount root fs", LogSign::RootMount},
    SignRow{"Cannot open root device", LogSign::RootMount},
    SignRow{"Kernel panic - not syncing", LogSign::KernelPanic},
    SignRow{"Failed to read default fstab", LogSign::MountTable},
    SignRow{"Failed to read fstab", LogSign::MountTable},
    SignRow{"Could not find fstab", LogSign::MountTable},
    SignRow{"failed to find fstab", LogSign::MountTable},
    SignRow{"Invalid fstab", LogSign::MountTable},
    SignRow{"Failed to mount required partitions", LogSign::MountFailed},
    SignRow{"Failed to mount /", LogSign::MountFailed},
    SignRow{"partition(s) not found", LogSign::MountFailed},
    SignRow{"dm-verity device corrupted", LogSign::HashTree},
    SignRow{"is corrupted", LogSign::HashTree, "block"},
    SignRow{"does not match digest in descriptor", LogSign::NotVerified},
    SignRow{"Public key used to sign data rejected", LogSign::NotVerified},
    SignRow{"Hash of data does not match", LogSign::NotVerified},
    SignRow{"ollback index", LogSign::RollbackIndex, "less than"},
    SignRow{"ollback index", LogSign::RollbackIndex, "lower"},
    SignRow{"ollback index", LogSign::RollbackIndex, "below"},
    SignRow{"disagrees about version of symbol", LogSign::ModuleVersion},
    SignRow{"version magic", LogSign::ModuleVersion},
    SignRow{"KEY_REQUIRES_UPGRADE", LogSign::DataKeys},
    SignRow{"INVALID_KEY_BLOB", LogSign::DataKeys},
    SignRow{"init_user0 failed", LogSign::DataKeys},
    SignRow{"init_user0_failed", LogSign::DataKeys},
    SignRow{"Failed to decrypt", LogSign::DataKeys},
    SignRow{"Your data may be corrupt", LogSign::AsksErase},
    SignRow{"prompt_and_wipe_data", LogSign::AsksErase},
    SignRow{"ot enough space", LogSign::NoRoom},
    SignRow{"No space left", LogSign::NoRoom},
    SignRow{"not allowed in locked state", LogSign::LockedRefuses},
    SignRow{"not allowed in Lock State", LogSign::LockedRefuses},
    SignRow{"FAILED (remote", LogSign::Refused},
    SignRow{"its own recovery is written back", LogSign::RestoredRecovery},
    SignRow{"nstalling new recovery image: succeeded", LogSign::RestoredRecovery},
};

/// In the order of the enum.
constexpr std::array<std::string_view, 19> kAbout{
    "the kernel gave up",
    "the kernel found no first program that it could start",
    "the first program ended",
    "a ramdisk does not unpack",
    "the kernel looked for a root file system: no ramdisk was used",
    "a program is of another form or for another processor",
    "the first program may not be run",
    "the mount table is not there or does not read",
    "a file system that the start needs was not mounted",
    "a block is not the one that its hash tree says",
    "an image is not the one that is signed",
    "a rollback index is lower than the stored one",
    "a kernel module is of another kernel",
    "the keys of the user's data were withheld",
    "the system asks for the data to be erased",
    "there was not enough room",
    "the bootloader refused",
    "the bootloader is locked and refused",
    "the system wrote its own recovery back",
};

}  // namespace

std::string_view log_sign_about(LogSign sign) {
  return kAbout[static_cast<std::size_t>(sign)];
}

std::optional<LogSign> log_sign_of(std::string_view line) {
  for (const SignRow& row : kRows)
    if (line.find(row.text) != line.npos && line.find(row.too) != line.npos) return row.sign;
  return std::nullopt;
}

}  // namespace wexlo
