/// Recipes as files: those that come along, mistakes and where they stand, parameters.

#include "recipe/recipe.hpp"

#include "core/patch_bench.hpp"

using namespace wexlo;
using namespace wexlo::test;

TEST_CASE("recipes: those that come with Wexlo load") {
  for (const BundledRecipe& bundled : bundled_recipes()) {
    CAPTURE(bundled.name);
    const auto described = describe_recipe(bundled.text, bundled.name);
    REQUIRE(described);
    CHECK(described->name == bundled.name);
    CHECK_FALSE(described->about.empty());
    Settings settings;
    const TempDir dir;
    test::write(dir / "program", "x");
    for (const Parameter& parameter : described->parameters)
      if (!parameter.fallback) settings[parameter.name] = (dir / "program").string();
    CHECK(load_recipe("@" + bundled.name, settings));
  }
  CHECK(load_recipe("@nothing", {}).error().code == ErrorCode::NotFound);
}

TEST_CASE("recipes: each mistake is told with its line") {
  const auto error = [](const std::string& text) {
    const TempDir dir;
    test::write(dir / "r.toml", text);
    auto loaded = load_recipes({(dir / "r.toml").string()}, {});
    if (!loaded) return loaded.error();
    // A file is asked for when it is known which image is patched.
    const auto bound = bind_recipes(*loaded, {.architecture = "arm64"});
    REQUIRE_FALSE(bound);
    return bound.error();
  };
  const std::string head = "format = 1\nname = \"x\"\n[[edit]]\n";
  CHECK(error("format = 1\nname = ").message.find("line 2") != std::string::npos);
  CHECK(error("format = 9\nname = \"x\"").code == ErrorCode::Unsupported);
  CHECK(error("format = 9\nname = \"x\"").hint.contains("newer Wexlo"));
  const std::string bytes = head + "kind = \"kernel-bytes\"\nfind_text = \"abc\"\n";
  CHECK(error(bytes + "replace_text = \"ab\"\n").message.contains("3 bytes and replace 2"));
  CHECK(error(bytes + "replace_text = \"abcd\"\n").message.contains("3 bytes and replace 4"));
  CHECK(error(bytes + "replace_text = \"abd\"\ncount = \"all\"\n").message.contains("\"any\""));
  const std::string property = head + "kind = \"dt-property\"\nnode = \"/a\"\nproperty = \"b\"\n";
  CHECK(error(property + "text = \"x\"\ncells = [1]\n").message.contains("exactly one"));
  CHECK(error(property + "remove = true\npresent = true\n").message.contains("exactly one"));
  CHECK(error(property).message.contains("exactly one"));
  CHECK(error(property + "cells = [1, 4294967296]\n").message.contains("no number"));
  CHECK(error(property + "cells = [-1]\n").message.contains("no number"));
  CHECK(error("format = 1\nname = \"x\"\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"explode\"\n").code == ErrorCode::Unsupported);
  CHECK(error(head + "kind = \"put\"\npath = \"a\"\n").message.find("from") != std::string::npos);
  const Error leaves = error(head + "kind = \"put\"\npath = \"../a\"\nfrom = \"b\"\n");
  CHECK(leaves.message.find("line 5") != std::string::npos);
  CHECK(leaves.code == ErrorCode::UnsafePath);
  CHECK(error(head + "kind = \"put\"\npath = \"a\"\nfrom = \"b\"\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"remove\"\npath = \"a\"\nkep_stock = true\n")
            .message.find("\"keep_stock\" is meant") != std::string::npos);
  CHECK(error(head + "kind = \"put\"\npath = \"a\"\nfrom = \"${who}\"\n").message.find("who") !=
        std::string::npos);
  const std::string put = head + "kind = \"put\"\npath = \"a\"\ntext = \"b\"\n";
  CHECK(error(put + "from = \"c\"\n").message.contains("line 7"));
  CHECK(error(put + "pack = \"zip\"\n").message.contains("none, gzip, xz"));
  CHECK(error(put + "keep_pack = \"xz\"\n").message.contains("keep_stock is missing"));
  CHECK(error(put + "keep_stock = \"../a\"\n").code == ErrorCode::UnsafePath);
  CHECK(error(put + "keep_stock = \"/a\"\n").message.contains("in the place of the new one"));
  CHECK(error(put + "keep_stock = 1\n").message.contains("true or false"));
  CHECK(error(head + "kind = \"folder\"\n").message.contains("path is missing"));
  CHECK(error(head + "kind = \"vbmeta-flags\"\nset = [\"all\"]\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"vbmeta-flags\"\n").code == ErrorCode::BadValue);
  CHECK(error(head + "kind = \"property\"\nfile = \"a\"\nset = { \"a\" = \"b\\nc\" }\n").code ==
        ErrorCode::BadValue);
}

TEST_CASE("recipes: parameters have to be given, and only those that there are") {
  const TempDir dir;
  test::write(dir / "r.toml",
              "format = 1\nname = \"x\"\n[parameters.key]\nabout = \"a name\"\n[[edit]]\n"
              "kind = \"property\"\nfile = \"f\"\nset = { \"k\" = \"${key}!\" }\n");
  const std::string spec = (dir / "r.toml").string();
  CHECK(load_recipes({spec}, {}).error().code == ErrorCode::Usage);
  const auto loaded = load_recipes({spec}, {{"key", "v"}});
  REQUIRE(loaded);
  CHECK(std::get<PropertyEdit>((*loaded)[0].edits[0].what).set[0].second == "v!");
  CHECK(load_recipes({spec}, {{"key", "v"}, {"other", "w"}}).error().code == ErrorCode::Usage);
}
