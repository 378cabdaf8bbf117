#include "ramdisk/ramdisk.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

namespace wexlo {
namespace {

using newc::Entry;
using newc::Field;

/// Formats that a kernel may know and this version of the tool does not.
std::optional<std::string_view> unsupported_name(View start) {
  const auto text = as_text(start);
  if (text.starts_with("\x04\x22\x4d\x18")) return "lz4 frame";
  if (text.starts_with(std::string_view("\x5d\0\0", 3))) return "lzma";
  if (text.starts_with("\x28\xb5\x2f\xfd")) return "zstd";
  if (text.starts_with("\x89LZO")) return "lzop";
  if (text.starts_with(std::string_view("\x88\x16\x88\x58", 4))) return "chipset part header";
  return std::nullopt;
}

Result<RamdiskSegment> parse_segment(const Blob& bytes, std::size_t at, std::uint64_t limit) {
  RamdiskSegment segment;
  const View rest = bytes.view().subspan(at);
  if (newc::looks_like_newc(rest)) {
    auto archive = newc::parse(bytes.rest(at));
    if (!archive) return fail(at_base(std::move(archive).error(), at));
    segment.archive = std::move(*archive);
    // What follows an uncompressed archive may be another, compressed stream.
    const std::size_t size = rest.size() - segment.archive.tail.size();
    segment.archive.tail = {};
    segment.encoded = bytes.part(at, size);
    return segment;
  }
  const auto kind = detect_compression(rest);
  if (!kind) {
    const auto name = unsupported_name(rest);
    return fail({.code = name ? ErrorCode::Unsupported : ErrorCode::BadMagic,
                 .message = name
                                ? fmt::format("a ramdisk in {} form is not supported yet", *name)
                                : "the ramdisk is neither an archive nor compressed in a known way",
                 .offset = at,
                 .expected = "gzip, lz4 legacy, xz, bzip2 or cpio",
                 .found = hex(rest.first(std::min<std::size_t>(rest.size(), 8)))});
  }
  auto decoded = decode(*kind, rest, limit);
  if (!decoded) return fail(at_base(std::move(decoded).error(), at));
  segment.compression = *kind;
  segment.encoded = bytes.part(at, decoded->consumed);
  segment.framing = framing_of(*kind, segment.encoded.view(), decoded->bytes.size());
  auto archive = newc::parse(Blob(std::move(decoded->bytes)));
  if (!archive) {
    Error error = std::move(archive).error();
    error.message += fmt::format(" (inside the {} stream at 0x{:x}, counted decoded)",
                                 compression_name(*kind), at);
    return fail(std::move(error));
  }
  segment.archive = std::move(*archive);
  return segment;
}

std::size_t decoded_size(const RamdiskSegment& segment) {
  std::size_t size = 0;
  for (const Entry& entry : segment.archive.entries)
    size += newc::kHeaderSize + entry.name().size() + entry.data().size();
  return size;
}

using LinkKey = std::array<std::uint32_t, 3>;
LinkKey link_key(const Entry& entry) {
  return {entry.get(Field::DevMajor), entry.get(Field::DevMinor), entry.get(Field::Ino)};
}
bool is_linked(const Entry& entry) {
  return entry.type() == newc::Regular && entry.get(Field::Nlink) > 1;
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
    if (!entry.is_trailer()) ++counts[entry.get(Field::Mtime)];
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
    ino = std::max(ino, other.get(Field::Ino));
  entry.set(Field::Ino, ino + 1);
  auto at = entries.end();
  if (at != entries.begin() && std::prev(at)->is_trailer()) --at;
  entries.insert(at, std::move(entry));
}

}  // namespace

Result<Ramdisk> parse_ramdisk(const Blob& bytes, const RamdiskLimits& limits) {
  Ramdisk ramdisk;
  std::size_t at = 0;
  std::uint64_t left = limits.decoded_bytes;
  while (at < bytes.size()) {
    std::size_t begin = at;
    while (begin < bytes.size() && bytes.view()[begin] == std::byte{0})
      ++begin;
    const View rest = bytes.view().subspan(begin);
    const bool more = newc::looks_like_newc(rest) || detect_compression(rest);
    if (!more && !ramdisk.segments.empty()) break;
    auto segment = parse_segment(bytes, begin, left);
    if (!segment) {
      // Behind a good stream, bytes that only look like another one are carried.
      if (!ramdisk.segments.empty() && segment.error().code == ErrorCode::Corrupt) break;
      return fail(std::move(segment).error());
    }
    segment->gap = bytes.part(at, begin - at);
    at = begin + segment->encoded.size();
    left -= std::min<std::uint64_t>(left, decoded_size(*segment));
    ramdisk.segments.push_back(std::move(*segment));
  }
  if (ramdisk.segments.empty())
    return fail(
        {.code = ErrorCode::BadMagic,
         .message = "the ramdisk is empty",
         .offset = 0,
         .hint = "Another partition (init_boot, boot or recovery) holds the first ramdisk."});
  ramdisk.tail = bytes.rest(at);
  return ramdisk;
}

Result<Bytes> encode_ramdisk(const Ramdisk& ramdisk) {
  Bytes out;
  for (const RamdiskSegment& segment : ramdisk.segments) {
    append(out, segment.gap.view());
    // A kernel finds an uncompressed archive only at a multiple of 4.
    if (segment.compression == Compression::None) out.resize(align_up(out.size(), 4));
    if (!segment.touched) {
      append(out, segment.encoded.view());
      continue;
    }
    WEXLO_TRY(const Bytes encoded,
              encode(segment.compression, newc::write(segment.archive), segment.framing));
    append(out, View(encoded));
  }
  append(out, ramdisk.tail.view());
  return out;
}

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
    folder.set(Field::Mtime, time);
    insert_entry(ramdisk, std::move(folder));
    made.push_back(parent);
  }
  // Rebuilt so that the digits' case follows the archive.
  Entry added = Entry::make(entry.name(), entry.mode(), entry.data(), upper);
  for (const Field field : {Field::Uid, Field::Gid, Field::RdevMajor, Field::RdevMinor})
    added.set(field, entry.get(field));
  added.set(Field::Mtime, time);
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
    entries[other].set(Field::Nlink, entries[other].get(Field::Nlink) - 1);
  own.set_data(data);
  own.set(Field::Nlink, 1);
  std::uint32_t ino = 0;
  for (const Entry& entry : entries)
    ino = std::max(ino, entry.get(Field::Ino));
  own.set(Field::Ino, ino + 1);
}

Blob content_of(const Ramdisk& ramdisk, EntryAt at) {
  const newc::Archive& archive = ramdisk.segments[at.segment].archive;
  const Entry& entry = archive.entries[at.index];
  if (!entry.data().empty() || !is_linked(entry)) return entry.data();
  for (const std::size_t other : link_group(archive, at.index))
    if (!archive.entries[other].data().empty()) return archive.entries[other].data();
  return {};
}

Status check_places(const Ramdisk& ramdisk) {
  std::set<std::string> links;
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
        if (links.contains(place.substr(0, cut)))
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
