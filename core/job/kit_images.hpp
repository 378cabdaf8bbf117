#pragma once
/// The images of a kit: patched by recipes, given by somebody, or the firmware's own.

#include "firmware/stock_images.hpp"
#include "job/patch.hpp"
#include "kit/facts/kit_image.hpp"
#include "kit/facts/target.hpp"

namespace wexlo {

struct ImagesInput {
  StockImages& stock;
  const Target& target;
  const std::vector<Recipe>& recipes;
  const PatchOptions& options;
  const std::vector<Given>& given;
  bool signs = false;  ///< an owner's key signs again what a patch made invalid
};

struct MadeImages {
  KitImages images;             ///< those that were only looked at among them
  std::vector<Recipe> recipes;  ///< bound to the phone's processor
  PhoneFacts phone;
  std::map<std::string, ImageOrigin> origins;  ///< what each image showed before, by partition
  std::vector<Finding> findings;
};

/// Patches whatever the recipes act on: the image that was given for a partition, else the
/// firmware's. Errors: NoMatch (nothing changes, or an edit matched nothing), those of patching.
[[nodiscard]] Result<MadeImages> patch_images(const ImagesInput& input, const Context& context);

/// Stock images as they are: a kit that only puts them back.
/// @param names  partitions; empty: the boot chain. Errors: NoTarget (none of them is there).
[[nodiscard]] Result<KitImages> put_back_images(StockImages& stock, std::vector<std::string> names,
                                                const Context& context);

/// What was given and no recipe acts on joins the list, as it is.
/// @param stock_kit  a given image takes the place of the stock one
[[nodiscard]] Status add_given(const std::vector<Given>& given, bool stock_kit, StockImages& stock,
                               KitImages& images, const Context& context);

/// Sets what is needed besides for those that are written: the stock copies, and whether an
/// installation needs the image on the phone before.
[[nodiscard]] Status complete_images(StockImages& stock, bool installs, KitImages& images,
                                     const Context& context);

}  // namespace wexlo
