#pragma once
/// Which partitions of a firmware the edits of recipes act on.

#include <map>
#include <set>

#include "firmware/stock_images.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {

struct EditPlaces {
  /// In the order they shall be written: the target first, vbmeta last, so that a phone that loses
  /// power half way still has a chain that it accepts.
  std::vector<std::string> partitions;
  std::map<std::string, std::set<Home>> homes;  ///< what each is looked to for
};

/// @param target  the partition whose ramdisk starts the system
/// Errors: NoMatch (an edit that may not miss has no place in this firmware), those of reading
/// boot.
[[nodiscard]] Result<EditPlaces> places_of(const std::vector<Recipe>& recipes,
                                           const std::string& target, StockImages& stock,
                                           const Context& context);

}  // namespace wexlo
