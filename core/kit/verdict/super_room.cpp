#include "kit/verdict/super_room.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wexlo {
namespace {

/// What lies in super comes from a file, as it was given; boot-class images are never in there.
bool may_be_logical(const KitImage& image) {
  return image.made == Made::Given && !image.is_held();
}

Finding room_finding(const KitImage& image, const RoomPlan& room) {
  const FindingId id = !room.fits     ? FindingId(FindingCode::NoRoom, image.partition)
                       : room.unknown ? FindingId(FindingCode::RoomUnknown, image.partition)
                                      : FindingId(FindingCode::RoomMade);
  return usual_finding(id, room.why, image.logical);
}

}  // namespace

Result<SuperChange> place_in_super(const SuperInput& input, KitImages& images,
                                   std::vector<Finding>& findings) {
  // Download mode writes the package's super whole: what the phone has in its own is gone then.
  const Sheet* sheet = input.shape.way == Way::Download ? nullptr : input.sheet;
  SuperChange out;
  out.before = super_facts(input.firmware, sheet, input.shape.slotted.value_or(true));
  SuperFacts left = out.before;
  bool system = false;
  for (KitImage& image : images) {
    if (!may_be_logical(image)) continue;
    system = system || image.partition.starts_with("system");
    image.logical = logical_name(left, image.partition, input.sheet);
    if (!image.is_logical()) continue;
    // What the installer leaves in super, its own snapshots among it, is not known before.
    if (input.lands_elsewhere)
      return fail(
          {.code = ErrorCode::DoesNotFit,
           .message = fmt::format(
               "{} cannot be planned together with a package that the phone installs to its "
               "other slot: how super looks after that is not known before",
               image.partition),
           .file = image.given->file,
           .hint = "Do it in two steps: install the package and let the phone start once; "
                   "then make a sheet of it and a kit for the build that it runs by then."});
    RoomPlan room = make_room(left, image.logical, align_up(image.size(), 4096));
    if (!room.fits || room.unknown || room.steps.size() > 1)
      findings.push_back(room_finding(image, room));
    left = after_room(std::move(left), room);
    out.rooms.push_back(std::move(room));
  }
  out.other_system = system || input.installs;
  if (system && !input.wipe)
    findings.push_back(
        {Level::Problem, FindingCode::WipeNeeded,
         "Another system cannot read the data of the one before it, and stops or loops at its "
         "first start: add --wipe when the owner agrees that the user's data is erased, or "
         "accept this to try without.",
         "system"});
  return out;
}

}  // namespace wexlo
