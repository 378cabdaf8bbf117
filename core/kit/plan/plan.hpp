#pragma once
/// The plan of a flash as data, and the facts that it is made of: docs/formats/kit.md.

#include <map>

#include "kit/facts/kit_image.hpp"
#include "kit/facts/room.hpp"
#include "kit/facts/ways.hpp"
#include "kit/plan/step.hpp"

namespace wexlo {

/// A system package that the phone installs itself.
struct PlanInstall {
  KitFile file;
  bool other_slot = false;  ///< lands on the slot that the phone does not start from
  bool wipes = false;       ///< it says so itself
};

/// The stock package, for phones that take a new build.
struct PlanUpdate {
  std::string package;  ///< the firmware's file name
  bool over_the_air = false;
  std::string keeping_part, wiping_part;  ///< file names of a download-mode set; may be empty
};

struct PlanFacts {
  std::string device, build;
  KitImages images;  ///< in the order they shall be written; those with `written` alone count
  Slots slots = Slots::Current;
  bool wipe = false;
  Needs needs = Needs::Unlocked;
  std::string needs_why;             ///< sentences
  std::string key_file, key_sha256;  ///< the public key blob in the kit, with Needs::OwnKey

  Way way = Way::Bootloader;
  bool slotted = true;
  bool restore = false;                       ///< the images are stock: nothing is patched
  bool recovery_only = false;                 ///< what is patched runs only in recovery
  std::string products;                       ///< what the bootloader may call the phone, by '|'
  std::optional<bool> locked;                 ///< of the sheet
  std::string this_slot;                      ///< of the sheet: "a", "b"; empty: not known
  std::map<std::string, std::string> access;  ///< the technician's notes
  std::optional<PlanInstall> install;
  std::optional<PlanUpdate> update;
  std::vector<RoomStep> room;  ///< to be made in super
  /// Of dropped partitions, in the kit: the whole, or its pieces under the download limit.
  std::map<std::string, std::vector<KitFile>> contents;
  std::string contents_source;  ///< where those are that are not
  KitFile tar, stock_tar;       ///< for download mode; no name: there is none
  KitFile first_tar;            ///< what a package to be installed needs there already
  /// The file of the stock package in whose field the tar goes; may be empty.
  std::string tar_field;
  bool other_system = false;  ///< another system than the maker's: its data is of no use to stock
  bool own_recovery = false;  ///< a recovery that is not stock: the system may write its own back
  std::optional<std::uint64_t> anti_rollback;  ///< the firmware's number
  std::string model;                           ///< by the names of its parts; may be empty
  std::vector<std::string> first;  ///< what was found and has to be said first, sentences
  /// A vbmeta that is not the stock one is written: in download mode the user's data has to be
  /// erased for it, and the stock images alone are no way back.
  bool writes_vbmeta = false;
  bool trial_start = false;  ///< what is patched can be started once without being written
};

struct Plan {
  std::string device, build;
  Needs needs = Needs::Unknown;
  std::string needs_why;
  std::string key_file, key_sha256;
  std::vector<std::string> first;  ///< what has to be known before anything is done, sentences
  std::vector<Step> steps;
  std::vector<Step> back;  ///< the way back to stock
  std::vector<std::string> back_first;
  bool operator==(const Plan&) const = default;
};

/// Sizes and digests of files that were written since the plan was made, by their names; the usual
/// time of a write goes with its size.
void fill_in(Plan& plan, const std::map<std::string, KitFile>& files);

/// Seconds that sending and writing so many bytes usually takes.
[[nodiscard]] unsigned usual_write_seconds(std::uint64_t bytes);

}  // namespace wexlo
