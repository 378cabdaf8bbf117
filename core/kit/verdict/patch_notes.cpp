#include "kit/verdict/patch_notes.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo {

void judge_start_edits(const std::vector<Recipe>& recipes,
                       const std::vector<std::vector<EditReport>>& reports,
                       std::vector<Finding>& out) {
  std::size_t number = 0;
  for (const Recipe& recipe : recipes) {
    std::string why;
    bool done = false;
    for (const Edit& edit : recipe.edits) {
      const std::size_t at = number++;
      if (!edit.replaces_init()) continue;
      for (const auto& image : reports) {
        done |= image[at].outcome == Outcome::Applied || image[at].outcome == Outcome::AlreadyDone;
        if (image[at].outcome == Outcome::Skipped && why.empty()) why = image[at].why;
      }
    }
    if (done || why.empty()) continue;
    out.push_back(usual_finding(
        FindingCode::NoStartEdit,
        fmt::format("Recipe {} replaces what starts first, and here that edit was left "
                    "out: {}.",
                    recipe.name, why)));
  }
}

void tell_of_patch(const KitImage& image, const std::map<std::string, LoadedImage>& stock,
                   bool signs, std::vector<Finding>& out) {
  for (const Lowered& one : image.patched.lowered) {
    // Lowered in several images, it is still one protection.
    const bool told = std::ranges::any_of(out, [&](const Finding& finding) {
      return finding.id.code == one.code && finding.message == one.about;
    });
    if (!told) out.push_back({Level::Warning, one.code, one.about, image.partition});
  }
  for (Finding one : image.patched.warnings) {
    one.where = image.partition;
    out.push_back(std::move(one));
  }
  for (const Conflict& one : image.patched.conflicts)
    out.push_back({Level::Warning, FindingCode::EditConflict,
                   fmt::format("{} was changed by \"{}\" and again by \"{}\": the later has its "
                               "way.",
                               one.where, one.earlier, one.later),
                   image.partition});
  if (image.written && !image.patched.way_back.in_image)
    out.push_back(
        {Level::Note, FindingCode::WayBackInKit,
         fmt::format("The way back is the kit's stock copy: {}.", image.patched.way_back.reason),
         image.partition});
  for (const Remark& note : image.patched.notes)
    if (!signs || !note.key_cures)
      out.push_back({Level::Note, FindingCode::VerifiedBoot, note.text, image.partition});
  const auto twin = stock.find(image.partition);
  const std::uint64_t size = image.patched.bytes.size();
  const std::uint64_t room = twin == stock.end() ? size : twin->second.bytes.size();
  if (image.written && size > room)
    out.push_back(
        {Level::Warning, FindingCode::PartitionSizeUnknown,
         fmt::format("The image is {} bytes larger than the stock one, and the package does not "
                     "say how large the partition is: the plan asks the phone before writing.",
                     size - room),
         image.partition});
  if (image.partition == "vbmeta" && !image.written && !signs)
    out.push_back({Level::Note, FindingCode::VbmetaUnchanged,
                   "vbmeta is left as it is: an unlocked phone starts the patched image and warns, "
                   "a locked one refuses it.",
                   "vbmeta"});
}

}  // namespace wexlo
