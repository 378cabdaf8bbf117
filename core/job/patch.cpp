#include "job/patch.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "recipe/conditions.hpp"

namespace wexlo {
namespace {

bool asks_for_the_phone(const Conditions& one) {
  return one.sdk_at_least || one.sdk_at_most || asks_for_kernel(one);
}

bool asks_for_the_phone(const std::vector<Recipe>& recipes) {
  return std::ranges::any_of(recipes, [](const Recipe& recipe) {
    return asks_for_the_phone(recipe.needs) ||
           std::ranges::any_of(recipe.edits, [](const Edit& edit) {
             return asks_for_the_phone(edit.when) || !edit.open.empty() ||
                    (edit.file() != nullptr && !edit.file()->bound);
           });
  });
}

}  // namespace

Result<PatchRole> ready_to_patch(const LoadedImage& image, PatchRole role,
                                 std::vector<Recipe>& recipes, const PatchOptions& options,
                                 const std::filesystem::path& path, ImageOrigin& origin,
                                 const Context& context) {
  WEXLO_TRY(origin, origin_of(image, path, context));
  if (!origin.foreign.empty() && !options.onto_foreign)
    return fail({.code = ErrorCode::ForeignPatch,
                 .message = "the image was patched by another tool",
                 .found = fmt::format("{}", fmt::join(origin.foreign, "; ")),
                 .hint = "Start from the stock image. --onto-foreign patches on top of it: then "
                         "the way back leads to this image, not to stock."});
  role.foreign = origin.foreign;
  role.allow_programs = options.allow_programs;
  role.phone.take(options.told);
  if (asks_for_the_phone(recipes)) {
    WEXLO_TRY(const PhoneFacts facts, phone_facts(image, context));
    role.phone.complete(facts);
  }
  // An image that Wexlo does not patch is refused by the patcher, with the reason.
  WEXLO_CHECK(bind_recipes(recipes, role.phone, [&](const Edit& edit) {
    return !image.image || concerns(*image.image, role, edit);
  }));
  return role;
}

Result<Patched> patch_loaded(const LoadedImage& image, PatchRole role, std::vector<Recipe>& recipes,
                             const PatchOptions& options, const std::filesystem::path& path,
                             const Context& context) {
  ImageOrigin origin;
  WEXLO_TRY(const PatchRole ready,
            ready_to_patch(image, std::move(role), recipes, options, path, origin, context));
  return patch_image(image, ready, recipes, context);
}

}  // namespace wexlo
