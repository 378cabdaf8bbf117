#include "advice.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "kit/folder/kit.hpp"
#include "parts/parts.hpp"
#include "recipe/recipe.hpp"
#include "text/nearest.hpp"

namespace wexlo::cli {
namespace fs = std::filesystem;
namespace {

/// Folders with more names than this are not searched for a slip.
constexpr std::size_t kMostNames = 10'000;

std::vector<std::string> names_in(const fs::path& folder) {
  std::vector<std::string> out;
  std::error_code error;
  fs::directory_iterator at(folder.empty() ? "." : folder, error);
  for (; !error && at != fs::directory_iterator() && out.size() < kMostNames; at.increment(error))
    out.push_back(at->path().filename().string());
  // The order of a folder is the disk's: two names as near as each other would change places.
  std::ranges::sort(out);
  return out;
}

std::string recipe_without_at(const std::string& name) {
  for (const BundledRecipe& one : bundled_recipes())
    if (one.name == name) return fmt::format("Did you mean \"@{}\", which comes with Wexlo?", name);
  return {};
}

void advise_missing(Error& error) {
  std::error_code ignored;
  const fs::path path = error.file;
  if (error.file.contains("://") || fs::exists(fs::symlink_status(path, ignored))) return;
  if (std::string recipe = recipe_without_at(error.file); !recipe.empty()) {
    error.hint = recipe;
    return;
  }
  const fs::path folder = path.parent_path();
  if (!folder.empty() && !fs::exists(folder, ignored)) {
    error.hint = fmt::format("There is no folder {}: check the path.", folder.string());
    const auto other = nearest(folder.filename().string(), names_in(folder.parent_path()));
    const fs::path there = other ? folder.parent_path() / *other / path.filename() : fs::path();
    if (other && fs::exists(there, ignored))
      error.hint = fmt::format("Did you mean \"{}\"?", there.string());
    return;
  }
  const auto meant = nearest(path.filename().string(), names_in(folder));
  if (meant) error.hint = fmt::format("Did you mean \"{}\"?", (folder / *meant).string());
}

/// A file is due, and this is a folder.
void advise_folder(Error& error) {
  const fs::path path = error.file;
  std::error_code ignored;
  if (!fs::is_directory(path, ignored)) return;
  if (is_kit(path)) {
    error.message = "this is a kit, and one image is wanted here";
    error.hint = fmt::format("The patched images are in {0}/flash, the stock ones in {0}/stock.",
                             path.string());
  } else if (fs::exists(path / parts::kManifest, ignored)) {
    error.message = "this is a parts folder, and one image is wanted here";
    error.hint = fmt::format("wexlo repack {} -o IMAGE makes the image.", path.string());
  } else {
    error.message = "this is a folder, and a file is wanted here";
    error.hint = fs::exists(path / "recipe.toml", ignored)
                     ? fmt::format("Did you mean \"{}\"?", (path / "recipe.toml").string())
                     : "Name one file in it.";
  }
}

/// A kit where firmware is due: each of its partitions is there twice, patched and stock.
void advise_kit(Error& error) {
  error.message = "this is a kit, and firmware is wanted here";
  error.found.clear();
  error.hint = fmt::format(
      "Give the package that it was made of. Its stock images alone are in {0}/stock; --like {0} "
      "takes its recipes.",
      error.file);
}

}  // namespace

Error advised(Error error) {
  if (error.code == ErrorCode::NotFound)
    advise_missing(error);
  else if (error.code == ErrorCode::Io)
    advise_folder(error);
  else if (error.code == ErrorCode::Ambiguous && is_kit(error.file))
    advise_kit(error);
  return error;
}

}  // namespace wexlo::cli
