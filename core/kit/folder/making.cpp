#include "kit/folder/making.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "archive/bundle.hpp"

namespace wexlo {
namespace {

/// Recipes and keys change what was given; what is too large to be held they never touch.
Result<bool> is_as_given(const KitImage& image, const Given& given) {
  if (image.made != Made::Given) return false;
  if (!image.is_held()) return true;
  const View bytes = image.patched.bytes.view();
  if (bytes.size() != given.source->size()) return false;
  WEXLO_TRY(const Blob before, read_all(*given.source, bytes.size()));
  return equal(bytes, before.view());
}

bool ends_with(const std::vector<Layer>& all, const std::vector<Layer>& end) {
  return all.size() >= end.size() && std::equal(end.rbegin(), end.rend(), all.rbegin());
}

}  // namespace

Result<KitGiven> kept_given(const Given& given, const KitImages& images) {
  const std::string name(base_name(given.file));
  KitGiven out{.partition = given.partition,
               .name = name,
               .size = given.size,
               .build = given.build.fingerprint,
               .patch_level = given.build.patch_level,
               .device = given.build.device};
  if (given.partition.empty()) {
    out.file = fmt::format("install/{}", name);
    return out;
  }
  if (const KitImage* image = find_image(images, given.partition);
      image != nullptr && image->written) {
    WEXLO_TRY(const bool same, is_as_given(*image, given));
    if (same) {
      out.file = image->flash.file;
      return out;
    }
  }
  out.file = fmt::format("{}/{}.img", kKitGiven, given.partition);
  return out;
}

bool only_wrapped(const std::vector<Layer>& now, const std::vector<Layer>& then) {
  return now != then && (ends_with(now, then) || ends_with(then, now));
}

}  // namespace wexlo
