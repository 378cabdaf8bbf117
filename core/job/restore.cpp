#include "job/restore.hpp"

#include "kit/folder/manifest.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {

/// The stock image's digest for the patched one's, as the kit wrote it down whose folder two levels
/// above a file is; empty: there is none, or it does not know the image.
Result<std::string> recorded_near(const fs::path& file, const std::string& patched) {
  const auto kit = read_manifest(file.parent_path().parent_path());
  if (!kit && kit.error().code == ErrorCode::NotFound) return std::string();
  if (!kit) return fail(kit.error());
  for (const KitImage& image : kit->images)
    if (image.flash.sha256 == patched && !image.stock_files.file.empty())
      return image.stock_files.sha256;
  return std::string();
}

}  // namespace

Result<Restored> restore_file(const LoadedImage& patched, const fs::path& path,
                              const fs::path& stock, const Context& context) {
  const auto recorded = [&](const std::string& sha256) -> Result<std::string> {
    for (const fs::path& near : {fs::absolute(stock), fs::absolute(path)}) {
      WEXLO_TRY(std::string found, recorded_near(near, sha256));
      if (!found.empty()) return found;
    }
    return std::string();
  };
  return restore_image(patched, {.stock = stock, .recorded = recorded}, context);
}

}  // namespace wexlo
