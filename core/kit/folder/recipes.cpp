#include "kit/folder/recipes.hpp"

#include <fmt/format.h>

#include <set>

#include "base/digest.hpp"
#include "base/source.hpp"

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
  if (!is_inside(path))
    return fail({.code = ErrorCode::UnsafePath,
                 .message = "kit.json names a file outside the kit",
                 .file = (folder / kKitManifest).string(),
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

  Result<Blob> read(const FileRef& wanted) const override {
    WEXLO_TRY(auto all, tree(wanted));
    return std::move(all.front().content);
  }
  Result<std::vector<NamedFile>> tree(const FileRef& wanted) const override {
    std::vector<NamedFile> out;
    for (const auto& file : files_) {
      if (file.spelled != wanted.spelled) continue;
      // Chosen by what another build was: the one for this build may be another file.
      if (!file.named.empty() && file.named != wanted.named) continue;
      WEXLO_TRY(Blob content, member(folder_, file.file, file.sha256));
      out.push_back({file.path, std::move(content)});
    }
    if (!out.empty()) return out;
    return fail({.code = ErrorCode::NotFound,
                 .message = "the kit does not carry this file of the recipe",
                 .file = folder_.string(),
                 .expected = wanted.named,
                 .hint = "It was not needed for that build: give the recipe itself with -r."});
  }

 private:
  fs::path folder_;
  std::vector<KitRecipe::File> files_;
};

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
        kept.files.push_back({brought->spelled, file.path, name, sha256,
                              brought->named == brought->spelled ? "" : brought->named});
      }
    }
    out.push_back(std::move(kept));
  }
  return out;
}

Result<Recipe> read_kept_recipe(const fs::path& kit, const KitRecipe& kept,
                                const Settings& settings) {
  WEXLO_TRY(const Blob text, member(kit, kept.file, kept.sha256));
  // What was given then, unless something else is given now.
  Settings given = kept.given;
  for (const auto& [name, value] : settings)
    given[name] = value;
  return read_recipe(as_text(text.view()), (kit / kept.file).string(),
                     std::make_shared<KitFiles>(kit, kept.files), given);
}

}  // namespace wexlo
