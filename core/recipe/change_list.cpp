/// The list of what recipes changed in a ramdisk, for whoever takes it out again on the phone.

#include <fmt/format.h>

#include <set>

#include "ramdisk/textfiles.hpp"
#include "recipe/work.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

using newc::Entry;
using CpioField = newc::Field;
using Places = std::map<std::string, EntryAt>;

/// Wexlo's own folder is no recipe's doing; what is kept in it is told as kept.
bool is_own(std::string_view place) {
  return place == "wexlo" || place.starts_with("wexlo/");
}

/// Each place with the copy that counts: the last.
Places places_of(const Ramdisk& ramdisk) {
  Places out;
  for (std::size_t s = 0; s < ramdisk.segments.size(); ++s) {
    const auto& entries = ramdisk.segments[s].archive.entries;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      const std::string place = newc::place_of(entries[i].name());
      if (!entries[i].is_trailer() && !place.empty() && !is_own(place)) out[place] = {s, i};
    }
  }
  return out;
}

bool is_same(const Ramdisk& now, EntryAt at, const Ramdisk& before, EntryAt was) {
  const Entry &a = entry_at(now, at), &b = entry_at(before, was);
  for (const CpioField field : {CpioField::Mode, CpioField::Uid, CpioField::Gid})
    if (a.get(field) != b.get(field)) return false;
  return equal(content_of(now, at).view(), content_of(before, was).view());
}

std::string shown(const std::string& place) {
  return "/" + percent_encode(place);
}

/// The lines of an earlier list that begin so.
std::set<std::string> lines_before(std::string_view list, std::string_view start) {
  std::set<std::string> out;
  for (const std::string_view line : lines_of(list))
    if (line.starts_with(start)) out.emplace(line.substr(0, line.find('\n')));
  return out;
}

/// What was done since, on top of an earlier list: where the stock image cannot be had, nothing
/// else tells what was done before.
void join(const std::set<std::string>& earlier, std::set<std::string>& lines) {
  for (const std::string& line : earlier) {
    const std::string place = line.substr(line.find(' '));
    if (line.starts_with("added ") && lines.erase("removed" + place) != 0) continue;
    if (line.starts_with("removed ") && lines.erase("added" + place) != 0) {
      lines.insert("changed" + place);
      continue;
    }
    if (line.starts_with("added ")) lines.erase("changed" + place);
    lines.insert(line);
  }
}

/// The ramdisk of the stock image in the same place.
Result<std::optional<Ramdisk>> stock_ramdisk(Work& work) {
  const LoadedImage& stock = work.original ? *work.original : work.stock;
  WEXLO_TRY(const ReadRamdisks all, stock.decoded->ramdisks(work.context));
  for (const auto& [part, ramdisk, trouble] : *all)
    if (part.index == work.opened->part.index && ramdisk) return *ramdisk;
  if (work.ramdisk_made) return Ramdisk{};
  return std::nullopt;
}

/// The lists and the folders above them, which are made together with them.
std::set<std::string> own_places(const std::set<std::string>& lists) {
  std::set<std::string> out = lists;
  for (const std::string& path : lists)
    for (auto cut = path.find('/'); cut != path.npos; cut = path.find('/', cut + 1))
      out.insert(path.substr(0, cut));
  return out;
}

/// @param list  as it was before; empty: there was none
std::string listed(const Work& work, const Ramdisk& before, std::string_view list) {
  std::set<std::string> lines;
  const Ramdisk& now = work.opened->ramdisk;
  const Places is = places_of(now), was = places_of(before);
  for (const std::string& place : own_places(work.change_lists))
    if (!was.contains(place))
      lines.insert("added " + shown(place));
    else if (work.change_lists.contains(place))
      lines.insert("changed " + shown(place));
  for (const auto& [place, at] : is) {
    if (work.change_lists.contains(place)) continue;
    const auto old = was.find(place);
    if (old == was.end())
      lines.insert("added " + shown(place));
    else if (!is_same(now, at, before, old->second))
      lines.insert("changed " + shown(place));
  }
  for (const auto& [place, at] : was)
    if (!is.contains(place)) lines.insert("removed " + shown(place));
  if (work.patched_before && !work.original) join(lines_before(list, ""), lines);
  lines.merge(lines_before(list, "kept "));  // the journal does not know these
  for (const auto& [place, at] : work.kept_files)
    lines.insert("kept " + shown(place) + " " + shown(at));
  std::string out;
  for (const std::string& line : lines)
    out += line + "\n";
  return out;
}

}  // namespace

Result<Outcome> apply(Work& work, const ChangeListEdit& edit) {
  WEXLO_TRY(const auto before, stock_ramdisk(work));
  if (!before) return Outcome::NoMatch;
  const auto known = find_entry(work.ramdisk(), edit.path);
  if (work.patched_before && !work.original && !known)
    return fail({.code = ErrorCode::NoWayBack,
                 .message = fmt::format("recipe {} lists what was changed, and the image was "
                                        "patched before",
                                        work.edit->recipe),
                 .expected = "the stock image, out of the way back, or an earlier list",
                 .found = "neither in the image",
                 .hint = "Patch the stock image with all recipes at once."});
  const Blob list = known ? content_of(work.ramdisk(), *known) : Blob();
  return apply(work, PutEdit{.path = edit.path,
                             .text = listed(work, *before, as_text(list.view())),
                             .from = {},
                             .access = edit.access});
}

}  // namespace wexlo
