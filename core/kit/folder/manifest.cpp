#include "kit/folder/manifest.hpp"

#include <array>

namespace wexlo {

std::string_view purpose_word(Purpose purpose) {
  constexpr std::array<std::string_view, 3> words{"patch", "update", "restore"};
  return words[static_cast<std::size_t>(purpose)];
}

std::string_view way_word(Way way) {
  return way == Way::Download ? "download" : "bootloader";
}

std::vector<KitFile> files_of(const KitManifest& manifest) {
  std::vector<KitFile> out;
  const auto add = [&](const KitFile& file) {
    if (!file.file.empty()) out.push_back(file);
  };
  for (const KitImage& image : manifest.images)
    for (const KitContent* content : {&image.flash, &image.stock_files}) {
      add({content->file, content->size, content->sha256});
      for (const KitFile& piece : content->pieces)
        add(piece);
    }
  add(manifest.key);
  for (const KitRecipe& recipe : manifest.recipes.value_or(std::vector<KitRecipe>{})) {
    add({recipe.file, 0, recipe.sha256});
    for (const KitRecipe::File& file : recipe.files)
      add({file.file, 0, file.sha256});
  }
  add(manifest.plan);
  for (const KitFile& file : manifest.files)
    add(file);
  return out;
}

}  // namespace wexlo
