#pragma once
/// What `prepare` is told.

#include "base/output.hpp"
#include "firmware/image_cache.hpp"
#include "job/patch.hpp"
#include "kit/facts/sheet.hpp"
#include "kit/facts/ways.hpp"
#include "kit/folder/making.hpp"
#include "verified/key.hpp"

namespace wexlo {

/// What a kit that is made once more is called as it was, wherever the firmware lies now.
struct MadeBefore {
  std::string version;   ///< of the Wexlo that made it
  std::string firmware;  ///< the package's file name then
  KitPackage package;
};

struct PrepareOptions {
  std::vector<Recipe> recipes;
  std::optional<Slots> slots;  ///< nullopt: both where the sheet says that they are the same
  bool wipe = false;
  PatchOptions patch;
  bool dry_run = false;  ///< everything but writing the kit
  Overwrite overwrite = Overwrite::Refuse;
  OlderKit older;
  verified::SignerPtr signer;       ///< the owner's key, for a phone that shall start locked
  std::optional<Sheet> sheet;       ///< of the phone
  std::vector<GivenFile> given;     ///< images besides the firmware's, and packages to install
  std::vector<std::string> accept;  ///< codes of problems that a person has said yes to
  std::string technician{};         ///< who makes the kit, for its report; may be empty
  std::string base;                 ///< the older build of an incremental package; may be empty
  bool rehearse = true;             ///< play the plan on a simulated phone; a dry run does not
  bool whole = false;  ///< what the firmware lacks is missing, not only left to the phone
  bool stock = false;  ///< no recipes: a kit that only puts stock images back
  std::vector<std::string> stock_of;   ///< with `stock`: these partitions; empty: the boot chain
  ImageCachePtr cache;                 ///< of images taken out; may be empty
  std::vector<std::string> inputs;     ///< paths that are read: none of them is written to
  std::optional<MadeBefore> before{};  ///< nullopt: the kit is new

  [[nodiscard]] const Sheet* phone_sheet() const { return sheet ? &*sheet : nullptr; }
};

}  // namespace wexlo
