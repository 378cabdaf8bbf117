#pragma once
/// Reading kit.json: what is of another type or missing is an error that names its place.

#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "kit/facts/chain_facts.hpp"
#include "kit/folder/kit_super.hpp"
#include "kit/folder/old_kit.hpp"

namespace wexlo {

/// A file of a kit, as its manifest has it. `name` is relative to the kit.
struct KitFile {
  std::string name, sha256;
  std::optional<std::uint64_t> size;
};

struct KitImage {
  std::string partition, what;
  std::optional<KitFile> flash, stock;
};

struct KitManifest {
  std::string device, build, target;
  std::vector<KitImage> images;                   ///< that were patched, or put back
  std::vector<KitImage> given;                    ///< written as they were given, without a recipe
  std::string needs;                              ///< "unlocked", "own-key"
  std::optional<std::vector<KitRecipe>> recipes;  ///< nullopt: it does not say
  std::string slots, architecture;
  bool wipe = false;
  std::vector<ImageFacts> chain;
  std::optional<KitSuper> super;
  std::vector<KitFile> files;  ///< every file that it names, in its order
};

/// Errors: NotFound (no kit.json), LimitExceeded, BadValue, Unsupported (another format version).
[[nodiscard]] Result<KitManifest> read_kit_manifest(const std::filesystem::path& kit);

}  // namespace wexlo
