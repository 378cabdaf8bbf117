/// Entries of a ramdisk as a kernel would leave them: places, hard links, additions.

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "ramdisk/ramdisk.hpp"

namespace wexlo {
namespace {

using newc::Entry;
using EntryField = newc::Field;

using LinkKey = std::array<std::uint32_t, 3>;
LinkKey link_key(const Entry& entry) {
  return {entry.get(EntryField::DevMajor), entry.get(EntryField::DevMinor),
          entry.get(EntryField::Ino)};
}
bool is_linked(const Entry& entry) {
  return entry.type() == newc::Regular && entry.get(EntryField::Nlink) > 1;
}

/// The other entries of the same hard-link group; a trailer ends the table of links.
std::vector<std::size_t> link_group(const newc::Archive& archive, std::size_t index) {
  std::vector<std::size_t> group;
  const auto& entries = archive.entries;
  std::size_t begin = index, end = index;
  while (begin > 0 && !entries[begin - 1].is_trailer())
    --begin;
  while (end < entries.size() && !entries[end].is_trailer())
    ++end;
  for (std::size_t i = begin; i < end; ++i)
    if (i != index && is_linked(entries[i]) && link_key(entries[i]) == link_key(entries[index]))
      group.push_back(i);
  return group;
}

std::uint32_t usual_time(const newc::Archive& archive) {
  std::map<std::uint32_t, std::size_t> counts;
  for (const Entry& entry : archive.entries)
    if (!entry.is_trailer()) ++counts[entry.get(EntryField::Mtime)];
  const auto most =
      std::ranges::max_element(counts, {}, [](const auto& item) { return item.second; });
  return most == counts.end() ? 0 : most->first;
}

void insert_entry(Ramdisk& ramdisk, Entry entry) {
  RamdiskSegment& segment = ramdisk.segments.back();
  segment.touched = true;
  auto& entries = segment.archive.entries;
  std::uint32_t ino = 0;
  for (const Entry& other : entries)
    ino = std::max(ino, other.get(EntryField::Ino));
  entry.set(EntryField::Ino, ino + 1);
  auto at = entries.end();
  if (at != entries.begin() && std::prev(at)->is_trailer()) --at;
  entries.insert(at, std::move(entry));
  newc::give_sums(segment.archive);
}

}  // namespace

std::optional<EntryAt> find_entry(const Ramdisk& ramdisk, std::string_view place) {
  for (std::size_t s = ramdisk.segments.size(); s-- > 0;) {
    const auto& entries = ramdisk.segments[s].archive.entries;
    for (std::size_t i = entries.size(); i-- > 0;)
      if (!entries[i].is_trailer() && newc::place_of(entries[i].name()) == place)
        return EntryAt{s, i};
  }
  return std::nullopt;
}

const Entry& entry_at(const Ramdisk& ramdisk, EntryAt at) {
  return ramdisk.segments[at.segment].archive.entries[at.index];
}

Entry& edit_entry(Ramdisk& ramdisk, EntryAt at) {
  ramdisk.segments[at.segment].touched = true;
  return ramdisk.segments[at.segment].archive.entries[at.index];
}

Result<std::vector<std::string>> add_entry(Ramdisk& ramdisk, Entry entry) {
  const newc::Archive& archive = ramdisk.segments.back().archive;
  const bool upper = std::ranges::any_of(archive.entries, &Entry::upper_case);
  const std::uint32_t time = usual_time(archive);
  std::vector<std::string> made;
  const std::string place = newc::place_of(entry.name());
  for (std::size_t cut = place.find('/'); cut != std::string::npos;
       cut = place.find('/', cut + 1)) {
    const std::string parent = place.substr(0, cut);
    if (const auto at = find_entry(ramdisk, parent)) {
      if (entry_at(ramdisk, *at).type() == newc::Directory) continue;
      return fail({.code = ErrorCode::BadValue,
                   .message = fmt::format("cannot add /{}: /{} is no folder", place, parent),
                   .hint = "Choose another path in the recipe."});
    }
    Entry folder = Entry::make(parent, newc::Directory | 0755, {}, upper);
    folder.set(EntryField::Mtime, time);
    insert_entry(ramdisk, std::move(folder));
    made.push_back(parent);
  }
  // Rebuilt so that the digits' case follows the archive.
  Entry added = Entry::make(entry.name(), entry.mode(), entry.data(), upper);
  for (const EntryField field :
       {EntryField::Uid, EntryField::Gid, EntryField::RdevMajor, EntryField::RdevMinor})
    added.set(field, entry.get(field));
  added.set(EntryField::Mtime, time);
  insert_entry(ramdisk, std::move(added));
  made.push_back(place);
  return made;
}

void detach_links(Ramdisk& ramdisk, EntryAt at) {
  RamdiskSegment& segment = ramdisk.segments[at.segment];
  auto& entries = segment.archive.entries;
  if (!is_linked(entries[at.index])) return;
  segment.touched = true;
  const auto group = link_group(segment.archive, at.index);
  const Blob data = content_of(ramdisk, at);
  Entry& own = entries[at.index];
  // The group's data goes to the last member: that is where most writers have it.
  if (!own.data().empty() && !group.empty()) entries[group.back()].set_data(data);
  for (const std::size_t other : group)
    entries[other].set(EntryField::Nlink, entries[other].get(EntryField::Nlink) - 1);
  own.set_data(data);
  own.set(EntryField::Nlink, 1);
  std::uint32_t ino = 0;
  for (const Entry& entry : entries)
    ino = std::max(ino, entry.get(EntryField::Ino));
  own.set(EntryField::Ino, ino + 1);
}

std::vector<std::string> erase_entries(Ramdisk& ramdisk, const std::string& place) {
  std::vector<std::string> gone;
  std::set<std::string> told;
  const std::string below = place + "/";
  for (std::size_t s = 0; s < ramdisk.segments.size(); ++s) {
    auto& entries = ramdisk.segments[s].archive.entries;
    std::vector<bool> goes(entries.size());
    for (std::size_t i = 0; i < entries.size(); ++i) {
      const std::string here = newc::place_of(entries[i].name());
      goes[i] = !entries[i].is_trailer() && (here == place || here.starts_with(below));
      if (!goes[i]) continue;
      detach_links(ramdisk, {s, i});
      if (told.insert(here).second) gone.push_back(here);
      ramdisk.segments[s].touched = true;
    }
    std::size_t index = 0;
    std::erase_if(entries, [&](const Entry&) { return goes[index++]; });
  }
  return gone;
}

Blob content_of(const Ramdisk& ramdisk, EntryAt at) {
  const newc::Archive& archive = ramdisk.segments[at.segment].archive;
  const Entry& entry = archive.entries[at.index];
  if (!entry.data().empty() || !is_linked(entry)) return entry.data();
  for (const std::size_t other : link_group(archive, at.index))
    if (!archive.entries[other].data().empty()) return archive.entries[other].data();
  return {};
}

std::vector<std::size_t> content_carriers(const newc::Archive& archive) {
  const auto& entries = archive.entries;
  std::vector<std::size_t> carriers(entries.size());
  std::map<LinkKey, std::size_t> with_data;
  std::size_t begin = 0;
  for (std::size_t i = 0; i <= entries.size(); ++i) {
    if (i < entries.size() && !entries[i].is_trailer()) {
      carriers[i] = i;
      if (is_linked(entries[i]) && !entries[i].data().empty())
        with_data.emplace(link_key(entries[i]), i);
      continue;
    }
    // A trailer (or the end) closes the table of links: those before it can be resolved.
    for (; begin < i; ++begin)
      if (is_linked(entries[begin]) && entries[begin].data().empty())
        if (const auto at = with_data.find(link_key(entries[begin])); at != with_data.end())
          carriers[begin] = at->second;
    with_data.clear();
    if (i < entries.size()) carriers[i] = i;
    begin = i + 1;
  }
  return carriers;
}

Status check_places(const Ramdisk& ramdisk) {
  std::set<std::string, std::less<>> links;
  const auto refuse = [](const Entry& entry, std::string_view why) {
    return fail({.code = ErrorCode::UnsafePath,
                 .message = fmt::format("the ramdisk entry \"{}\" {}", entry.name(), why),
                 .hint = "No stock ramdisk has such an entry: do not trust this image."});
  };
  for (const RamdiskSegment& segment : ramdisk.segments) {
    for (const Entry& entry : segment.archive.entries) {
      if (entry.is_trailer()) continue;
      const std::string place = newc::place_of(entry.name());
      const std::string framed = "/" + place + "/";
      if (framed.find("/../") != std::string::npos) return refuse(entry, "climbs out with ..");
      for (std::size_t cut = place.find('/'); cut != std::string::npos;
           cut = place.find('/', cut + 1))
        if (links.contains(std::string_view(place).substr(0, cut)))
          return refuse(entry,
                        fmt::format("goes through the symlink \"{}\"", place.substr(0, cut)));
      // A later entry replaces an earlier one of the same place, whatever its type.
      if (entry.type() == newc::Symlink)
        links.insert(place);
      else
        links.erase(place);
    }
  }
  return {};
}

}  // namespace wexlo
