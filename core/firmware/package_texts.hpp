#pragma once
/// The texts of a bundle: what they say of the build, and of its other files.

#include "archive/bundle.hpp"
#include "firmware/firmware.hpp"
#include "firmware/listing_index.hpp"
#include "firmware/opening.hpp"
#include "firmware/script_patches.hpp"

namespace wexlo {

struct PackageTexts {
  std::vector<const Item*> files;      ///< that told something
  bool over_the_air = false;           ///< of an over-the-air package
  std::vector<ScriptPatch> patches{};  ///< images that a script patches as a whole
};

/// Facts of the build, notes of texts that do not read, and the rows of listings for the layer's
/// detail go into `out`. Errors: those that end a package.
[[nodiscard]] Result<PackageTexts> read_package_texts(const Bundle& bundle, const Opening& opening,
                                                      ListingIndex& listings, Firmware& out);

/// What is no fault of one file of a package: nobody would be helped by going on with the others.
[[nodiscard]] bool ends_package(ErrorCode code);

}  // namespace wexlo
