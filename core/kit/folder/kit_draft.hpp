#pragma once
/// A kit before it is written: what the stages of `prepare` found out, one member each.

#include <map>

#include "kit/facts/shape.hpp"
#include "kit/facts/slots.hpp"
#include "kit/folder/kit_layout.hpp"
#include "kit/folder/manifest.hpp"
#include "kit/plan/plan.hpp"

namespace wexlo {

struct KitDraft {
  std::string firmware;  ///< file name of the package, without its folder
  BuildFacts build;
  Purpose purpose = Purpose::Patch;
  Target target;
  PhoneShape shape;
  SlotChoice slots;
  std::optional<Sheet> sheet;
  std::vector<FitRow> fit;      ///< empty: nothing to hold the firmware against
  std::vector<Recipe> recipes;  ///< bound to the phone's processor
  KitImages images;             ///< in the order they are written
  std::optional<Given> install;
  SuperChange super;
  JudgedKit judged;
  Bytes key;                                 ///< the public key blob, with Needs::OwnKey
  std::vector<ImageFacts> chain;             ///< of the boot chain, as it is stock
  std::vector<BuildDifference> differences;  ///< against an older kit's chain
  KitSettings settings;
  KitMaking making;
  KitLayout layout;
  Plan plan;
  std::vector<Finding> findings;
};

/// What a kit's manifest says of a draft. @param files, recipes, plan  as they were written
[[nodiscard]] KitManifest manifest_of(const KitDraft& draft, std::vector<KitRecipe> recipes,
                                      KitFile plan, std::vector<KitFile> files);

/// Sizes and digests of what was written, in images, layout and plan.
void fill_in(KitDraft& draft, const std::map<std::string, KitFile>& written);

}  // namespace wexlo
