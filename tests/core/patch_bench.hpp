#pragma once
/// What the tests of patches and of their account share: a small recipe, done or refused.

#include "recipe/patch.hpp"
#include "support/patching.hpp"
#include "support/vbmeta.hpp"

namespace wexlo::test {

inline constexpr const char* kAddOn = R"(
format = 1
name = "tests"
[[edit]]
kind = "put"
path = "init"
from = "hello"
mode = 0o755
keep_stock = true
[[edit]]
kind = "property"
file = "system/etc/build.prop"
set = { "ro.debuggable" = "1", "ro.added" = "yes" }
[[edit]]
kind = "fstab-drop"
mount_point = "/system"
flags = ["avb"]
)";

inline std::vector<Recipe> recipe(const std::string& toml,
                                  const std::string& program = "the add-on") {
  const TempDir dir;
  test::write(dir / "recipe.toml", toml);
  test::write(dir / "hello", program);
  auto loaded = load_recipes({(dir / "recipe.toml").string()}, {});
  REQUIRE_MESSAGE(loaded, (loaded ? "" : describe(loaded.error())));
  return std::move(*loaded);
}

inline Patched patch(const std::string& image, const std::vector<Recipe>& recipes) {
  auto patched = patch_image(load(image), {"boot", true}, recipes);
  REQUIRE_MESSAGE(patched, (patched ? "" : describe(patched.error())));
  return std::move(*patched);
}

/// An image whose own struct speaks of others, too, as one without a vbmeta partition does.
inline std::string top_level(const std::string& image, const std::string& others,
                             std::size_t size) {
  std::string out = padded(image, 4096);
  const std::string structure =
      vbmeta(hash_descriptor("boot", image, "salt") + others + property_descriptor("a.b", "c"));
  const std::size_t at = out.size();
  out += structure;
  out.resize(size - 64);
  return out + "AVBf" + be32(1) + be32(0) + be64(image.size()) + be64(at) + be64(structure.size()) +
         std::string(28, '\0');
}

}  // namespace wexlo::test
