#include "kit/folder/old_kit.hpp"

#include <fmt/format.h>

#include <set>

#include "base/digest.hpp"
#include "base/source.hpp"
#include "kit/folder/manifest_read.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint64_t kMaxFile = 256u << 20;

/// A name for a file that says nothing but which it is.
std::string safe_name(std::string name) {
  for (char& c : name) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       c == '-' || c == '_';
    if (!plain) c = '-';
  }
  return name.substr(0, 60);
}

/// A file of the kit, checked against what the kit says of it.
Result<Blob> member(const fs::path& folder, const std::string& name, const std::string& sha256) {
  const fs::path path(name);
  for (const auto& part : path)
    if (path.is_absolute() || part == "..")
      return fail({.code = ErrorCode::UnsafePath,
                   .message = "kit.json names a file outside the kit",
                   .file = (folder / "kit.json").string(),
                   .found = name});
  WEXLO_TRY(const SourcePtr source, open_file(folder / path));
  WEXLO_TRY(Blob bytes, read_all(*source, kMaxFile));
  if (sha256_hex(bytes) != sha256)
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = "a file of the kit was changed",
                 .file = (folder / path).string(),
                 .expected = sha256,
                 .found = sha256_hex(bytes),
                 .hint = "Give the recipes themselves with -r."});
  return bytes;
}

class KitFiles final : public FileStore {
 public:
  KitFiles(fs::path folder, std::vector<KitRecipe::File> files)
      : folder_(std::move(folder)), files_(std::move(files)) {}

  Result<Blob> read(const std::string& spelled, const std::string&) const override {
    WEXLO_TRY(auto all, tree(spelled, {}));
    return std::move(all.front().content);
  }
  Result<std::vector<NamedFile>> tree(const std::string& spelled,
                                      const std::string&) const override {
    std::vector<NamedFile> out;
    for (const auto& file : files_) {
      if (file.spelled != spelled) continue;
      WEXLO_TRY(Blob content, member(folder_, file.file, file.sha256));
      out.push_back({file.path, std::move(content)});
    }
    if (!out.empty()) return out;
    return fail({.code = ErrorCode::NotFound,
                 .message = "the kit does not carry this file of the recipe",
                 .file = folder_.string(),
                 .expected = spelled,
                 .hint = "It was not needed for that build: give the recipe itself with -r."});
  }

 private:
  fs::path folder_;
  std::vector<KitRecipe::File> files_;
};

Result<Recipe> recipe_from(const fs::path& folder, const KitRecipe& kept,
                           const Settings& settings) {
  WEXLO_TRY(const Blob text, member(folder, kept.file, kept.sha256));
  // What was given then, unless something else is given now.
  Settings given = kept.given;
  for (const auto& [name, value] : settings)
    given[name] = value;
  return read_recipe(as_text(text.view()), (folder / kept.file).string(),
                     std::make_shared<KitFiles>(folder, kept.files), given);
}

}  // namespace

Result<std::vector<KitRecipe>> write_recipes(KitFolder& folder,
                                             const std::vector<Recipe>& recipes) {
  WEXLO_CHECK(folder.make("recipes/files"));
  std::vector<KitRecipe> out;
  std::set<std::string> written;
  for (const Recipe& recipe : recipes) {
    KitRecipe kept{
        .name = recipe.name,
        .file = fmt::format("recipes/{}-{}.toml", out.size() + 1, safe_name(recipe.name)),
        .sha256 = sha256_hex(as_view(recipe.text)),
        .given = recipe.given};
    WEXLO_CHECK(folder.put(kept.file, as_view(recipe.text)));
    for (const Edit& edit : recipe.edits) {
      const FileRef* brought = edit.file();
      if (brought == nullptr || !brought->bound) continue;
      for (const NamedFile& file : brought->files) {
        const std::string sha256 = sha256_hex(file.content);
        const std::string name = "recipes/files/" + sha256;
        if (written.insert(name).second) WEXLO_CHECK(folder.put(name, file.content.view()));
        kept.files.push_back({brought->spelled, file.path, name, sha256});
      }
    }
    out.push_back(std::move(kept));
  }
  return out;
}

Result<OldKit> read_old_kit(const fs::path& folder, const Settings& settings) {
  // What is not there at all is told as such.
  std::error_code unknown;
  if (fs::exists(folder, unknown) && !fs::exists(folder / kKitManifest, unknown))
    return fail({.code = ErrorCode::BadMagic,
                 .message = "this is no kit: it has no kit.json",
                 .file = folder.string(),
                 .hint = "--like wants the folder that wexlo prepare made."});
  auto manifest = read_kit_manifest(folder);
  if (!manifest) return fail(std::move(manifest).error());
  if (!manifest->recipes)
    return fail({.code = ErrorCode::Unsupported,
                 .message = "this kit does not say by which recipes it was made",
                 .file = (folder / kKitManifest).string(),
                 .hint = "Give the recipes themselves with -r."});
  OldKit out{.device = manifest->device, .build = manifest->build};
  for (const KitRecipe& row : *manifest->recipes) {
    WEXLO_TRY(Recipe recipe, recipe_from(folder, row, settings));
    out.recipes.push_back(std::move(recipe));
  }
  WEXLO_CHECK(check_settings(out.recipes, settings));
  for (const KitImage& image : manifest->images) {
    out.partitions.push_back(image.partition);
    out.gave |= image.what == "given";
    if (image.stock) out.stock.emplace(image.partition, image.stock->sha256);
  }
  out.gave |= !manifest->given.empty();
  out.facts = std::move(manifest->chain);
  out.slots = manifest->slots;
  out.wipe = manifest->wipe;
  out.architecture = manifest->architecture;
  return out;
}

}  // namespace wexlo
