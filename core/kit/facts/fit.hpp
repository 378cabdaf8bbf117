#pragma once
/// Firmware against the sheet of a phone: does it fit? docs/formats/sheet.md lists the rows.

#include "base/finding.hpp"
#include "kit/facts/demands.hpp"
#include "kit/facts/sheet.hpp"
#include "recipe/edit.hpp"

namespace wexlo {

/// An image that would be written.
struct FitImage {
  std::string partition;
  std::uint64_t size = 0;  ///< bytes
  bool logical = false;    ///< room for it is made, see kit/room.hpp
};

/// An image or a package that a person brought along.
struct FitGiven {
  std::string partition;  ///< or "install"
  std::string build, patch_level, device;
  std::string architecture;                ///< empty: not known
  std::optional<bool> slotted;             ///< made for two slots
  std::optional<unsigned> header_version;  ///< of a boot header
  std::optional<unsigned> wanted_version;  ///< of the firmware's own image in that place
  bool of_the_build = false;  ///< has to be of the firmware's build: boot chain and vbmeta
};

/// What the kit is about to do to the phone's build.
enum class Purpose {
  Patch,    ///< images of the build that the phone runs are changed
  Update,   ///< the whole package is written first, then the images
  Restore,  ///< stock images of the build that the phone runs are put back
};

struct FitFacts {
  Purpose purpose = Purpose::Patch;
  std::string device;  ///< alternatives parted by '|'
  std::string build;   ///< fingerprint
  std::string incremental, patch_level, region, sdk;
  std::vector<std::string> demands;  ///< lines, see parse_demand; others are told as they are
  /// Of recipes, by their names.
  std::vector<std::pair<std::string, PhoneNeeds>> needs;
  std::string architecture;                         ///< of its programs or kernel
  std::optional<bool> slotted;                      ///< made for a phone with two slots
  std::map<std::uint32_t, std::uint64_t> rollback;  ///< indexes of its structs by location
  bool verified_boot = false;                       ///< it has such structs at all
  std::optional<std::uint64_t> anti_rollback;       ///< its maker's number, where it says one
  std::string model;                                ///< by the names of its parts
  std::optional<unsigned> binary;                   ///< the number in those names
  std::optional<unsigned> header_version;           ///< of boot
  std::vector<std::string> chain;  ///< partitions of the boot chain that it has, without slots
  bool both_slots = false;         ///< the kit writes both
  std::vector<FitImage> images;
  std::vector<FitGiven> given;
};

enum class FitVerdict { Fits, Differs, Unknown };
[[nodiscard]] std::string_view verdict_name(FitVerdict verdict);

struct FitRow {
  FindingId id;                 ///< its text is what --accept takes: "device", "build", …
  std::string what;             ///< for people
  std::string firmware, phone;  ///< values; empty: not known
  FitVerdict verdict = FitVerdict::Unknown;
  std::optional<Level> level;  ///< of a row that differs
  std::string why;             ///< why it matters, one sentence
  bool accepted = false;
};

/// Pure. One row for each thing that can be held against the sheet.
/// @param accepted  codes that a person has said yes to
[[nodiscard]] std::vector<FitRow> fit(const FitFacts& facts, const Sheet& sheet,
                                      const std::vector<std::string>& accepted);

/// A problem that nobody accepted.
[[nodiscard]] bool stops(const FitRow& row);

}  // namespace wexlo
