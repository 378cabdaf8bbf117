/// The recipes that come with Wexlo: files of core/recipe/bundled, made part of the library.

#include <array>

#include "recipe/recipe.hpp"

namespace wexlo {
namespace embedded {
std::string_view bundled_recipe_text(std::string_view name);
}
namespace {

constexpr std::array kBundled{"start-program", "verification-off", "hashtree-off",
                              "fstab-open",    "debug-properties", "encryption-optional",
                              "ramdisk-always"};

}  // namespace

std::vector<BundledRecipe> bundled_recipes() {
  std::vector<BundledRecipe> out;
  for (const char* name : kBundled)
    out.push_back({name, embedded::bundled_recipe_text(std::string(name) + ".toml")});
  return out;
}

}  // namespace wexlo
