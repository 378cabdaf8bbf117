#include "job/patch.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "image/boot.hpp"
#include "inspect/inspect.hpp"

namespace wexlo {
namespace {

bool asks_for_the_phone(const std::vector<Recipe>& recipes) {
  return std::ranges::any_of(recipes, [](const Recipe& recipe) {
    const Conditions& needs = recipe.needs;
    return needs.sdk_at_least || needs.sdk_at_most ||
           std::ranges::any_of(recipe.edits, [](const Edit& edit) {
             return edit.when.sdk_at_least || edit.when.sdk_at_most ||
                    (edit.file() != nullptr && !edit.file()->bound);
           });
  });
}

}  // namespace

Result<Judged> judge_image(const LoadedImage& image, const std::filesystem::path& path,
                           const Context& context) {
  Judged out;
  if (!image.image || (image.image->kind() != "boot" && image.image->kind() != "vendor_boot"))
    return out;
  ImageInfo info;
  WEXLO_TRY(info.footer, footer_info(image.bytes.view()));
  info.boot_signature = boot_signature_info(*image.image, image.bytes.view());
  info.id_matches = boot::id_matches(*image.image);
  WEXLO_TRY(const ImageReading reading, read_ramdisks(*image.image, context));
  out.origin = judge_origin(*image.image, reading, own_digests(info), path);
  if (out.origin.word == "altered")
    for (const Sign& sign : out.origin.signs)
      out.foreign.push_back(sign.text);
  return out;
}

Result<Patched> patch_loaded(const LoadedImage& image, PatchRole role, std::vector<Recipe>& recipes,
                             const PatchOptions& options, const std::filesystem::path& path,
                             const Context& context) {
  WEXLO_TRY(Judged judged, judge_image(image, path, context));
  if (!judged.foreign.empty() && !options.onto_foreign)
    return fail({.code = ErrorCode::ForeignPatch,
                 .message = "the image was patched by another hand",
                 .found = fmt::format("{}", fmt::join(judged.foreign, "; ")),
                 .hint = "Start from the stock image. --onto-foreign patches on top of it: then "
                         "the way back leads to this image, not to stock."});
  role.foreign = std::move(judged.foreign);
  if (!options.architecture.empty()) role.phone.architecture = options.architecture;
  if (asks_for_the_phone(recipes)) {
    WEXLO_TRY(const PhoneFacts facts, phone_facts(image, context));
    if (role.phone.architecture.empty()) role.phone.architecture = facts.architecture;
    if (role.phone.kernel_architecture.empty())
      role.phone.kernel_architecture = facts.kernel_architecture;
    if (!role.phone.sdk) role.phone.sdk = facts.sdk;
  }
  const std::string& architecture =
      role.phone.architecture.empty() ? role.phone.kernel_architecture : role.phone.architecture;
  // An image that Wexlo does not patch is refused below, with the reason.
  WEXLO_CHECK(bind_recipes(recipes, architecture, [&](const Edit& edit) {
    return !image.image || concerns(*image.image, role, edit);
  }));
  return patch_image(image, role, recipes, context);
}

}  // namespace wexlo
