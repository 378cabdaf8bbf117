#include "job/kit_notes.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo {
namespace {

/// About the two signatures that an owner's key makes again; an older boot signature, or one in a
/// section of its own, stays stale and has to be told.
bool is_signed_again(const std::string& note) {
  return note.starts_with("The image's own verified-boot signature") ||
         note.starts_with("The signature of vbmeta");
}

}  // namespace

void tell_of_patch(const PreparedImage& image, const std::map<std::string, LoadedImage>& stock,
                   bool signs, std::vector<Finding>& out) {
  for (const Lowered& one : image.patched.lowered) {
    // Lowered in several images, it is still one protection.
    const bool told = std::ranges::any_of(out, [&](const Finding& finding) {
      return finding.code == one.code && finding.message == one.about;
    });
    if (!told) out.push_back({"warning", one.code, one.about, image.partition});
  }
  for (const Conflict& one : image.patched.conflicts)
    out.push_back({"warning", "edit-conflict",
                   fmt::format("{} was changed by \"{}\" and again by \"{}\": the later has its "
                               "way.",
                               one.where, one.earlier, one.later),
                   image.partition});
  if (image.flashed && !image.patched.way_back.in_image)
    out.push_back(
        {"note", "way-back-in-kit",
         fmt::format("The way back is the kit's stock copy: {}.", image.patched.way_back.reason),
         image.partition});
  for (const std::string& note : image.patched.notes)
    if (!signs || !is_signed_again(note))
      out.push_back({"note", "verified-boot", note, image.partition});
  const auto twin = stock.find(image.partition);
  const std::uint64_t size = image.patched.bytes.size();
  const std::uint64_t room = twin == stock.end() ? size : twin->second.bytes.size();
  if (image.flashed && size > room)
    out.push_back(
        {"warning", "partition-size-unknown",
         fmt::format("The image is {} bytes larger than the stock one, and the package does not "
                     "say how large the partition is: the plan asks the phone before writing.",
                     size - room),
         image.partition});
  if (image.partition == "vbmeta" && !image.flashed && !signs)
    out.push_back({"note", "vbmeta-unchanged",
                   "vbmeta is left as it is: an unlocked phone starts the patched image and warns, "
                   "a locked one refuses it.",
                   "vbmeta"});
}

}  // namespace wexlo
