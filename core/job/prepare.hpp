#pragma once
/// The main job: firmware and recipes in, a kit ready for flashing out.

#include <filesystem>
#include <set>

#include "base/output.hpp"
#include "base/pool.hpp"
#include "firmware/image_cache.hpp"
#include "job/patch.hpp"
#include "judge/finding.hpp"
#include "kit/facts/chain_facts.hpp"
#include "kit/facts/fit.hpp"
#include "kit/facts/shape.hpp"
#include "kit/facts/target.hpp"
#include "kit/folder/kit_folder.hpp"
#include "kit/folder/old_kit.hpp"
#include "kit/plan/plan.hpp"
#include "recipe/patch.hpp"
#include "verified/chain.hpp"
#include "verified/key.hpp"

namespace wexlo {

struct PrepareOptions {
  std::vector<Recipe> recipes;
  std::optional<Slots> slots;  ///< nullopt: both where the sheet says that they are the same
  bool wipe = false;
  PatchOptions patch;
  bool dry_run = false;  ///< everything but writing the kit
  Overwrite overwrite = Overwrite::Refuse;
  std::vector<ImageFacts> before;     ///< of an older kit: what differs is reported
  verified::SignerPtr signer;         ///< the owner's key, for a phone that shall start locked
  std::optional<Sheet> sheet;         ///< of the phone at hand
  std::vector<GivenFile> given;       ///< images besides the firmware's, and packages to install
  std::vector<std::string> accept;    ///< codes of problems that a person has said yes to
  bool stock = false;                 ///< no recipes: a kit that only puts stock images back
  std::vector<std::string> stock_of;  ///< with `stock`: these partitions; empty: the boot chain
  std::string like_device;            ///< the older kit's device
  std::string like_build;             ///< the older kit's build; another one makes it an update
  std::map<std::string, std::string> like_stock;  ///< SHA-256 of its stock images, by partition
  ImageCachePtr cache;                            ///< of images taken out; may be empty
  std::vector<std::string> inputs;  ///< paths that are read: none of them is written to
};

/// An image that is written as it was given.
struct GivenPart {
  Given given;
  PlanImage files;
  std::string logical;  ///< its name in super; empty: not in there
};

struct PreparedImage {
  std::string partition;
  bool flashed = false;  ///< in the kit; false: looked at, nothing to change
  bool given = false;    ///< as it was given, no recipe acted on it
  Patched patched;
  PlanImage files;  ///< names, sizes and digests inside the kit, when flashed
};

/// Which verification setting the phone needs for a kit, and why.
struct Verification {
  std::string needs;  ///< "unlocked", "own-key"
  std::string why;    ///< sentences for people
  verified::Outlook locked = verified::Outlook::CannotTell;
  verified::Outlook unlocked = verified::Outlook::CannotTell;
  std::string key_sha256;  ///< of the key's blob, with "own-key"
  std::string stop;        ///< why even an unlocked phone stops; empty: it does not
  verified::Walk walk;     ///< with the kit's images
};

struct Prepared {
  Target target;
  BuildFacts build;
  std::vector<PreparedImage> images;
  Plan plan;
  Verification verification;
  std::vector<Finding> findings;
  std::vector<ImageFacts> chain;             ///< of the boot chain, as it is stock
  std::vector<BuildDifference> differences;  ///< against PrepareOptions::before
  std::vector<KitRecipe> recipes;            ///< as the kit carries them
  /// A problem that nobody accepted: there is no kit. The findings say which.
  bool stopped = false;
  Purpose purpose = Purpose::Patch;
  PhoneShape shape;
  Slots slots = Slots::Current;    ///< that are written
  std::string slots_reason;        ///< a clause
  std::vector<FitRow> fit;         ///< empty: no sheet
  std::set<std::string> accepted;  ///< codes of problems that a person has said yes to
  std::vector<GivenPart> given;
  std::optional<Given> install;
  bool other_system = false;    ///< another system than the firmware's is put on the phone
  SuperFacts super;             ///< before the plan
  std::vector<RoomPlan> rooms;  ///< of logical partitions that are written
  std::vector<PlanFile> files;  ///< what else is in the kit: report, figures, packages
};

/// What a person has to decide is no error: see Prepared::stopped. Errors: Usage (several packages
/// to install), WouldRefuse (even an unlocked phone would not start it), NoTarget, NoMatch,
/// DoesNotFit, ForeignPatch, Exists, and those of reading the firmware and patching. On failure,
/// and when it was stopped, nothing appears at `kit`.
/// @param kit  not looked at in a dry run
[[nodiscard]] Result<Prepared> prepare(const std::filesystem::path& firmware,
                                       const PrepareOptions& options,
                                       const std::filesystem::path& kit, const Context& context);

/// Codes of what stopped it, for --accept.
[[nodiscard]] std::vector<std::string> stopping(const Prepared& prepared);

}  // namespace wexlo
