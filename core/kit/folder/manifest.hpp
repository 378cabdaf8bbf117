#pragma once
/// kit.json: digests and provenance of all that is in a kit, out and in. No times, no paths of this
/// machine: the same input gives the same bytes. docs/formats/kit.md.

#include <filesystem>

#include "kit/facts/fit.hpp"
#include "kit/facts/target.hpp"
#include "kit/folder/making.hpp"
#include "kit/folder/recipes.hpp"
#include "kit/verdict/kit_verdict.hpp"
#include "kit/verdict/super_room.hpp"

namespace wexlo {

/// What was asked for, beside recipes: for a kit that is made like this one.
struct KitSettings {
  std::optional<Slots> slots;  ///< nullopt: as the sheet had it
  bool wipe = false;
  Values told;                        ///< of the phone, by a person
  std::vector<std::string> accepted;  ///< codes given with --accept
  std::string technician;             ///< who made it, by the user's settings; may be empty
};

struct KitManifest {
  std::string device, build, patch_level;
  std::string firmware;  ///< file name of the package, without its folder
  Purpose purpose = Purpose::Patch;
  Way way = Way::Bootloader;
  std::optional<bool> slotted;
  Target target;
  /// In the order they are written. Their files and accounts; contents are not held.
  KitImages images;
  KitVerdict verdict;
  KitFile key;  ///< the public key blob, with Needs::OwnKey; no name: none
  /// nullopt: it does not say. None is another matter: a kit that only puts stock images back.
  std::optional<std::vector<KitRecipe>> recipes;
  KitSettings settings;
  KitMaking making;
  std::vector<ImageFacts> chain;  ///< what the next build is held against
  std::optional<SuperChange> super;
  KitFile plan;
  std::vector<KitFile> files;  ///< what else is in the kit: report, figures, packages
};

[[nodiscard]] std::string format_manifest(const KitManifest& manifest);
/// format_manifest(parse_manifest(x)) == x for every x that it wrote.
/// @param file  what errors call it. Errors: LimitExceeded, BadValue with the place in the
/// document, Unsupported (another format version).
[[nodiscard]] Result<KitManifest> parse_manifest(std::string_view text, const std::string& file);
/// Of a kit's folder. Errors: besides, NotFound, those of reading.
[[nodiscard]] Result<KitManifest> read_manifest(const std::filesystem::path& kit);

/// Every file that it names, in its order: size 0 where it does not say one.
[[nodiscard]] std::vector<KitFile> files_of(const KitManifest& manifest);

[[nodiscard]] std::string_view purpose_word(Purpose purpose);
[[nodiscard]] std::string_view way_word(Way way);

}  // namespace wexlo
