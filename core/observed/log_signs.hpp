#pragma once
/// Signs of trouble in logs of kernels, loaders and systems: texts that those programs write.

#include <optional>
#include <string_view>

namespace wexlo {

enum class LogSign {
  KernelPanic,
  NoInit,  ///< the kernel finds no program to start, or cannot
  InitDied,
  RamdiskUnpack,  ///< a ramdisk does not unpack
  RootMount,      ///< there is no root to mount: no ramdisk was used
  ExecFormat,     ///< a program of another form or processor
  InitMode,       ///< the first program may not be run
  MountTable,     ///< none, or it does not read
  MountFailed,    ///< a file system that the start needs
  HashTree,       ///< a block is not the one that its hash tree says
  NotVerified,    ///< a loader: an image is not the one that is signed
  RollbackIndex,
  ModuleVersion,     ///< a module of another kernel
  DataKeys,          ///< the keys of the user's data are withheld
  AsksErase,         ///< the system asks for the data to be erased
  NoRoom,            ///< in super, or in a partition
  Refused,           ///< a bootloader said no
  LockedRefuses,     ///< because it is locked
  RestoredRecovery,  ///< the system wrote its own recovery back
};
[[nodiscard]] std::string_view log_sign_about(LogSign sign);  ///< a clause
/// nullopt: the line shows none that is known.
[[nodiscard]] std::optional<LogSign> log_sign_of(std::string_view line);

}  // namespace wexlo
