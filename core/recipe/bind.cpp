/// Reading the files of recipes once it is known what the phone is.

#include <fmt/format.h>

#include <algorithm>

#include "recipe/conditions.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {
namespace {

/// Names files by what is known now.
Status name_files(Recipe& recipe, const PhoneFacts& phone) {
  const auto waits = [](const Edit& edit) {
    const FileRef* file = edit.file();
    return file != nullptr && !file->bound && !file->open.empty();
  };
  if (std::ranges::none_of(recipe.edits, waits)) return {};
  WEXLO_TRY(recipe, with_values(recipe, phone.values()));
  return {};
}

Status bind_file(const Recipe& recipe, const Edit& edit, FileRef& file, const PhoneFacts& phone) {
  if (file.missing) return fail(*file.missing);
  if (!file.open.empty()) {
    Error error = unknown_value(*file.open.begin(), phone);
    error.message = fmt::format("recipe {}, line {}, needs the file \"{}\", and {}", recipe.name,
                                edit.line, file.spelled, error.message);
    return fail(std::move(error));
  }
  auto bound = file.bind();
  if (bound) return {};
  Error error = std::move(bound).error();
  if (error.code == ErrorCode::NotFound) error.code = ErrorCode::BadValue;
  error.message =
      fmt::format("recipe {}, line {}, \"{}\" for {}: {}", recipe.name, edit.line, file.spelled,
                  phone.processor().empty() ? "any processor" : phone.processor(), error.message);
  return fail(std::move(error));
}

}  // namespace

Status bind_recipes(std::vector<Recipe>& recipes, const PhoneFacts& phone,
                    const std::function<bool(const Edit&)>& wanted) {
  for (Recipe& recipe : recipes) {
    WEXLO_CHECK(name_files(recipe, phone));
    for (Edit& edit : recipe.edits) {
      FileRef* file = edit.file();
      if (file == nullptr || file->bound) continue;
      if (wanted && !wanted(edit)) continue;
      // Not for this phone: its files need not be there.
      if (!is_for(edit.when, phone)) continue;
      WEXLO_CHECK(bind_file(recipe, edit, *file, phone));
    }
  }
  return {};
}

}  // namespace wexlo
