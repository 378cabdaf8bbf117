#pragma once
/// The plan: the ordered steps of a flash as data, computed from facts alone: docs/formats/kit.md.

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "kit/facts/room.hpp"
#include "kit/facts/ways.hpp"

namespace wexlo {

/// A file of the kit.
struct PlanFile {
  std::string file;
  std::uint64_t size = 0;  ///< bytes
  std::string sha256;
};

struct PlanImage {
  std::string partition;
  std::string flash_file, stock_file;  ///< inside the kit; stock_file empty: the kit has none
  std::uint64_t size = 0;              ///< bytes of the image to write
  std::uint64_t stock_size = 0;
  std::string flash_sha256, stock_sha256;
  std::string what = "patched";  ///< "patched", "given" (with --with), "stock"
  bool logical = false;          ///< lies in super: only the userspace mode writes it
  bool before_install = false;   ///< recovery's: the package to be installed needs it there already
  /// Split under the phone's download limit: written one after the other instead of flash_file.
  std::vector<PlanFile> pieces{}, stock_pieces{};
};

/// A system package that the phone installs itself.
struct PlanInstall {
  PlanFile file;
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
  std::vector<PlanImage> images;  ///< in the order they shall be written
  Slots slots = Slots::Current;
  bool wipe = false;
  std::string verification;          ///< "unlocked", "own-key": what the phone needs; see Plan
  std::string verification_why;      ///< sentences
  std::string key_file, key_sha256;  ///< the public key blob in the kit, with "own-key"

  Way way = Way::Bootloader;
  bool slotted = true;
  bool restore = false;         ///< the images are stock: nothing is patched
  bool recovery_only = false;   ///< what is patched runs only when recovery is started
  std::string products;         ///< what the bootloader may call the phone, parted by '|'
  std::string lock, this_slot;  ///< of the sheet; empty: not known
  std::map<std::string, std::string> access;  ///< the technician's notes
  std::optional<PlanInstall> install;
  std::optional<PlanUpdate> update;
  std::vector<RoomStep> room;  ///< to be made in super
  /// Of dropped partitions, in the kit: the whole, or its pieces under the download limit.
  std::map<std::string, std::vector<PlanFile>> contents;
  std::string contents_source;  ///< where those are that are not
  PlanFile tar, stock_tar;      ///< for download mode
  PlanFile first_tar;           ///< what a package to be installed needs there already
  std::string
      tar_field;  ///< the file of the stock package in whose field the tar goes; may be empty
  bool other_system = false;  ///< another system than the maker's: its data is of no use to stock
  bool own_recovery = false;  ///< a recovery that is not stock: the system may write its own back
  std::optional<std::uint64_t> anti_rollback;  ///< the firmware's number
};

struct Step {
  std::string id;
  /// "expect", "mode", "write", "drop", "resize", "create", "slot", "install", "hand-over", "wipe",
  /// "restart", "person"
  std::string act;
  std::string about;    ///< what and why, one sentence
  std::string before;   ///< what must hold before it
  std::string success;  ///< how its success is known
  std::string undo;     ///< the step back; empty: nothing to undo
  bool data_loss = false;
  bool final = false;  ///< cannot be undone at all
  unsigned usual_seconds = 1;
  // by act
  std::string variable, value;  ///< expect: a variable and what it has to be; mode, slot: which
  std::optional<std::uint64_t> at_least;  ///< expect: instead of value, a smallest number (bytes)
  std::optional<std::uint64_t> at_most;   ///< expect: instead of value, a largest number
  /// write; slot "current" (from which the phone starts when these steps begin), "other" or empty
  std::string partition, slot, file, sha256;
  std::uint64_t size = 0;
  std::string piece;                  ///< "2 of 3"
  std::string screen;                 ///< what the phone shows then
  std::vector<std::string> notes;     ///< the technician's own, of this phone
  std::string field;                  ///< hand-over: where the other program wants the file
  std::vector<std::string> settings;  ///< hand-over: of the other program
};

struct Plan {
  std::string device, build;
  /// The state the phone has to be in to start what was written, and why.
  std::string verification, verification_why, key_file, key_sha256;
  std::vector<std::string> first;  ///< what has to be known before anything is done, sentences
  std::vector<Step> steps;
  std::vector<Step> back;  ///< the way back to stock
  std::vector<std::string> back_first;
};

/// Pure: the same facts give the same plan.
[[nodiscard]] Plan make_plan(const PlanFacts& facts);
/// plan.toml's text.
[[nodiscard]] std::string format_plan(const Plan& plan);
/// What an expect step wants, as a clause: "product is gnomon".
[[nodiscard]] std::string expectation(const Step& step);
/// "40 s", "3 min": in whole minutes from one on, rounded up.
[[nodiscard]] std::string usual_time(unsigned seconds);
/// plan.txt: the same for a person at the bench.
[[nodiscard]] std::string plan_for_people(const Plan& plan);

}  // namespace wexlo
