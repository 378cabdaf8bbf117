/// What became of the edits, over all images they were tried on.

#include <fmt/format.h>

#include <algorithm>

#include "recipe/patch.hpp"

namespace wexlo {

std::string_view outcome_name(Outcome outcome) {
  switch (outcome) {
    case Outcome::Applied: return "applied";
    case Outcome::AlreadyDone: return "already-done";
    case Outcome::NoMatch: return "no-match";
    case Outcome::Elsewhere: return "elsewhere";
    case Outcome::Skipped: return "skipped";
  }
  return "";
}

Status check_matches(const std::vector<std::vector<EditReport>>& reports) {
  if (reports.empty()) return {};
  const auto tried = [&](const auto& image) { return image.size() == reports.front().size(); };
  if (!std::ranges::all_of(reports, tried))
    return fail({.code = ErrorCode::Internal,
                 .message = "the recipes' edits were not tried on every image alike"});
  bool any = false;
  for (std::size_t i = 0; i < reports.front().size(); ++i) {
    const EditReport& edit = reports.front()[i];
    const auto with = [&](Outcome outcome) {
      return std::ranges::any_of(reports,
                                 [&](const auto& image) { return image[i].outcome == outcome; });
    };
    const bool done = with(Outcome::Applied) || with(Outcome::AlreadyDone);
    any |= done || with(Outcome::NoMatch) || with(Outcome::Skipped);
    if (done || edit.may_miss || !with(Outcome::NoMatch)) continue;
    return fail({.code = ErrorCode::NoMatch,
                 .message = fmt::format("recipe {}: \"{}\" matches nothing in {}", edit.recipe,
                                        edit.summary,
                                        reports.size() == 1 ? "this image" : "any of the images"),
                 .hint = reports.size() == 1
                             ? "What it looks for may be in another image: wexlo prepare looks at "
                               "all of the firmware. wexlo unpack shows this one's ramdisk."
                             : "Check the path in the recipe (wexlo unpack shows a ramdisk), or "
                               "say may_miss = true there."});
  }
  if (any || reports.front().empty()) return {};
  return fail(
      {.code = ErrorCode::NoMatch,
       .message = "no edit of the recipe concerns this kind of image",
       .hint = "Ramdisk edits go to boot, init_boot or vendor_boot; vbmeta flags to vbmeta."});
}

}  // namespace wexlo
