#include "kit/facts/kit_image.hpp"

#include <algorithm>
#include <array>

#include "base/word_table.hpp"

namespace wexlo {
namespace {

constexpr std::array<std::string_view, 3> kMade{"patched", "given", "stock"};

int rank(const KitImage& image) {
  if (image.partition == "vbmeta") return 2;
  return image.is_held() ? 1 : 0;
}

template <class List>
auto* find_in(List& images, std::string_view partition) {
  const auto at = std::ranges::find(images, partition, &KitImage::partition);
  return at == images.end() ? nullptr : &*at;
}

}  // namespace

std::string_view made_word(Made made) {
  return kMade[static_cast<std::size_t>(made)];
}

std::optional<Made> made_of(std::string_view word) {
  return of_word<Made>(kMade, word);
}

KitImage* find_image(KitImages& images, std::string_view partition) {
  return find_in(images, partition);
}

const KitImage* find_image(const KitImages& images, std::string_view partition) {
  return find_in(images, partition);
}

void put_in_order(KitImages& images) {
  std::ranges::stable_sort(images, {}, rank);
}

}  // namespace wexlo
