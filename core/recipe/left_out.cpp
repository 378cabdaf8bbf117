/// Layouts that conditions leave out: a recipe that does nothing on a phone because its author did
/// not think of it.

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <map>
#include <set>

#include "recipe/mistake.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {
namespace {

/// Layouts whose first ramdisk a normal start runs, or can be made to.
constexpr std::string_view kStarting[] = {"ramdisk-root", "two-stage", "two-stage-recovery",
                                          "system-root", "generic"};

/// What edits have in common that are for one purpose: each may be for some layouts.
struct Purpose {
  std::set<std::string_view> layouts;
  bool all = false, reasoned = false;
  const Edit* first = nullptr;
};

std::string purpose_of(const Edit& edit) {
  const std::string place = edit.place();
  return place.empty() ? edit.kind : place;
}

}  // namespace

std::vector<Mistake> left_out_layouts(const Recipe& recipe) {
  std::map<std::string, Purpose> purposes;
  for (const Edit& edit : recipe.edits) {
    if (edit.home != Home::StartRamdisk || !edit.partition.empty()) continue;
    Purpose& purpose = purposes[purpose_of(edit)];
    purpose.all |= edit.when.layouts.empty();
    purpose.reasoned |= !edit.when.reason.empty();
    for (const std::string_view layout : kStarting)
      for (const std::string& named : edit.when.layouts)
        if (named == layout) purpose.layouts.insert(layout);
    if (purpose.first == nullptr && !edit.when.layouts.empty()) purpose.first = &edit;
  }
  std::vector<Mistake> out;
  for (const auto& [key, purpose] : purposes) {
    if (purpose.all || purpose.reasoned || purpose.first == nullptr || purpose.layouts.empty())
      continue;
    std::vector<std::string_view> missing;
    for (const std::string_view layout : kStarting)
      if (!purpose.layouts.contains(layout)) missing.push_back(layout);
    if (missing.empty()) continue;
    out.push_back({.line = purpose.first->when.layouts_line,
                   .column = purpose.first->when.layouts_column,
                   .message = fmt::format("no edit does this in the layouts {}: on such a phone it "
                                          "is left out. Add them, or say why with reason = "
                                          "\"...\" in `when`",
                                          fmt::join(missing, ", ")),
                   .warning = true});
  }
  return out;
}

}  // namespace wexlo
