#include "job/old_kit.hpp"

#include <fmt/format.h>

#include <map>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/output.hpp"
#include "base/source.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

using nlohmann::json;

constexpr std::uint64_t kMaxManifest = 16u << 20, kMaxFile = 256u << 20;

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

std::string text_of(const json& row, const char* key) {
  const auto at = row.find(key);
  return at != row.end() && at->is_string() ? at->get<std::string>() : std::string();
}

/// An array's objects; anything else in it is passed over.
template <class Take>
void each(const json& row, const char* key, Take take) {
  const auto at = row.find(key);
  if (at == row.end() || !at->is_array()) return;
  for (const json& one : *at)
    if (one.is_object()) take(one);
}

void texts_into(const json& row, const char* key, std::map<std::string, std::string>& out) {
  const auto at = row.find(key);
  if (at == row.end() || !at->is_object()) return;
  for (const auto& [name, value] : at->items())
    if (value.is_string()) out[name] = value.get<std::string>();
}

ImageFacts facts_from(const json& row) {
  ImageFacts facts{.partition = text_of(row, "partition"),
                   .kernel = text_of(row, "kernel"),
                   .cmdline = text_of(row, "cmdline"),
                   .init = text_of(row, "init")};
  texts_into(row, "fstabs", facts.fstabs);
  const auto left = row.find("left");
  facts.left_known = left != row.end() && left->is_number_unsigned();
  if (facts.left_known) facts.left = left->get<std::uint64_t>();
  return facts;
}

Result<Recipe> recipe_from(const fs::path& folder, const json& row) {
  KitRecipe kept{
      .name = text_of(row, "name"), .file = text_of(row, "file"), .sha256 = text_of(row, "sha256")};
  texts_into(row, "given", kept.given);
  each(row, "files", [&](const json& file) {
    kept.files.push_back({text_of(file, "spelled"), text_of(file, "path"), text_of(file, "file"),
                          text_of(file, "sha256")});
  });
  WEXLO_TRY(const Blob text, member(folder, kept.file, kept.sha256));
  return read_recipe(as_text(text.view()), (folder / kept.file).string(),
                     std::make_shared<KitFiles>(folder, std::move(kept.files)), kept.given);
}

}  // namespace

Result<std::vector<KitRecipe>> write_recipes(const fs::path& folder,
                                             const std::vector<Recipe>& recipes) {
  std::error_code error;
  fs::create_directories(folder / "recipes" / "files", error);
  if (error) return fail(io_error(error.value(), "cannot make the folder", "recipes"));
  std::vector<KitRecipe> out;
  for (const Recipe& recipe : recipes) {
    KitRecipe kept{
        .name = recipe.name,
        .file = fmt::format("recipes/{}-{}.toml", out.size() + 1, safe_name(recipe.name)),
        .sha256 = sha256_hex(as_view(recipe.text)),
        .given = recipe.given};
    WEXLO_CHECK(write_new(folder / kept.file, as_view(recipe.text)));
    for (const Edit& edit : recipe.edits) {
      const FileRef* brought = edit.file();
      if (brought == nullptr || !brought->bound) continue;
      for (const NamedFile& file : brought->files) {
        const std::string sha256 = sha256_hex(file.content);
        const std::string name = "recipes/files/" + sha256;
        if (!fs::exists(folder / name)) WEXLO_CHECK(write_new(folder / name, file.content));
        kept.files.push_back({brought->spelled, file.path, name, sha256});
      }
    }
    out.push_back(std::move(kept));
  }
  return out;
}

Result<OldKit> read_old_kit(const fs::path& folder) {
  const fs::path manifest = folder / "kit.json";
  const auto source = open_file(manifest);
  if (!source)
    return fail({.code = ErrorCode::BadMagic,
                 .message = "this is no kit: it has no kit.json",
                 .file = folder.string(),
                 .hint = "--like wants the folder that wexlo prepare made."});
  WEXLO_TRY(const Blob text, read_all(**source, kMaxManifest));
  const json kit = json::parse(as_text(text.view()), nullptr, false);
  if (!kit.is_object())
    return fail({.code = ErrorCode::BadValue,
                 .message = "kit.json is not readable as JSON",
                 .file = manifest.string()});
  if (!kit.contains("recipes"))
    return fail({.code = ErrorCode::Unsupported,
                 .message = "this kit does not say by which recipes it was made",
                 .file = manifest.string(),
                 .hint = "Give the recipes themselves with -r."});
  OldKit out{.build = text_of(kit, "build")};
  Status read;
  each(kit, "recipes", [&](const json& row) {
    if (!read) return;
    auto recipe = recipe_from(folder, row);
    if (recipe)
      out.recipes.push_back(std::move(*recipe));
    else
      read = std::unexpected(std::move(recipe).error());
  });
  WEXLO_CHECK(read);
  each(kit, "images", [&](const json& row) {
    const std::string name = text_of(row, "partition");
    if (name.empty()) return;
    out.partitions.push_back(name);
    out.gave |= text_of(row, "what") == "given";
    if (const auto stock = row.find("stock"); stock != row.end() && stock->is_object())
      out.stock.emplace(name, text_of(*stock, "sha256"));
  });
  each(kit, "given", [&](const json&) { out.gave = true; });
  each(kit, "chain", [&](const json& row) { out.facts.push_back(facts_from(row)); });
  if (const auto at = kit.find("settings"); at != kit.end() && at->is_object()) {
    out.slots = text_of(*at, "slots");
    out.wipe = at->value("wipe", json(false)) == json(true);
    out.architecture = text_of(*at, "arch");
  }
  return out;
}

}  // namespace wexlo
