#pragma once
/// What a phone should show after a kit was flashed, worked out from the kit alone.

#include <map>
#include <set>

#include "flash/flash_log.hpp"
#include "kit/folder/manifest.hpp"

namespace wexlo {

/// What the kit's own images say, beside its manifest.
struct ImageSigns {
  std::vector<std::string> words;  ///< that the kernel's command line has, and stock has not
  std::string kernel;        ///< release of another kernel than the stock one; empty: the same
  std::string stock_kernel;  ///< release
  bool permissive = false;   ///< SELinux is told not to enforce
  /// Whether the mount of the user's data asks for encryption; nullopt: no table here says.
  std::optional<bool> encrypted;
};

struct ExpectedInput {
  const KitManifest& manifest;
  const Plan& plan;
  const std::vector<LoggedRun>& runs;  ///< of the kit's log, oldest first
  std::vector<std::string> shows;      ///< of its recipes
  ImageSigns signs;
};

struct Expected {
  bool stock = false;  ///< nothing of ours is on the phone: stock images were put back
  std::string device;
  std::set<std::string> products;  ///< what its bootloader may say; empty: not known
  std::string serial;              ///< of the phone that was flashed; empty: not known
  bool slotted = false;
  std::string slot;                ///< "a", "b"; empty: either, or not known
  std::string slot_from;           ///< what says so, a clause
  std::string build, patch_level;  ///< empty: not known, or another system's own
  Needs needs = Needs::Unknown;
  bool program = false;            ///< something was put in that runs
  std::vector<std::string> shows;  ///< texts that it leaves in a log
  struct Property {
    std::string value, before;
  };
  std::map<std::string, Property> properties;  ///< that recipes set
  ImageSigns signs;
  bool wiped = false;   ///< the plan erases the user's data
  bool log = false;     ///< a run of this plan is in the log
  bool ended = false;   ///< and it came to its end
  std::string stopped;  ///< id of the step that it stopped at
};

[[nodiscard]] Expected expected_of(const ExpectedInput& input);

}  // namespace wexlo
