#include "compare/compare_ramdisk.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "ramdisk/permissive.hpp"
#include "text/text_diff.hpp"

namespace wexlo {
namespace {

using Area = DifferenceArea;
using Kind = DifferenceKind;

using newc::Entry;
using EntryField = newc::Field;

constexpr std::size_t kSmallText = 256u << 10;  ///< larger files are told by their size alone

/// What a kernel leaves at a place: of several entries the last.
struct Left {
  const Entry* entry = nullptr;
  const Entry* carrier = nullptr;
};

std::map<std::string, Left> places_of(const Ramdisk& ramdisk) {
  std::map<std::string, Left> out;
  for (const RamdiskSegment& segment : ramdisk.segments) {
    const auto carriers = content_carriers(segment.archive);
    const auto& entries = segment.archive.entries;
    for (std::size_t i = 0; i < entries.size(); ++i)
      if (!entries[i].is_trailer())
        out[newc::place_of(entries[i].name())] = {&entries[i], &entries[carriers[i]]};
  }
  return out;
}

std::string_view type_word(const Entry& entry) {
  switch (entry.type()) {
    case newc::Regular: return "file";
    case newc::Directory: return "folder";
    case newc::Symlink: return "symlink";
    case newc::Character: return "character device";
    case newc::Block: return "block device";
    case newc::Fifo: return "pipe";
    case newc::Socket: return "socket";
    default: return "unknown";
  }
}

std::string describe(const Left& left) {
  const Entry& entry = *left.entry;
  std::string out = fmt::format("{} {:04o} {}:{}", type_word(entry), entry.mode() & 07777u,
                                entry.get(EntryField::Uid), entry.get(EntryField::Gid));
  if (entry.type() == newc::Symlink)
    out += fmt::format(" -> {}", as_text(entry.data().view()));
  else if (entry.type() == newc::Regular)
    out += fmt::format(", {} bytes", left.carrier->data().size());
  return out;
}

class Walk {
 public:
  Walk(std::string title, std::vector<Difference>& out) : title_(std::move(title)), out_(out) {}

  void run(const Ramdisk& a, const Ramdisk& b) {
    const auto before = places_of(a), after = places_of(b);
    for (const auto& [place, left] : before)
      if (const auto now = after.find(place); now == after.end())
        add(Kind::Removed, place, describe(left), "");
      else
        both(place, left, now->second);
    for (const auto& [place, left] : after)
      if (!before.contains(place)) add(Kind::Added, place, "", describe(left));
    if (a.compression() != b.compression())
      out_.push_back({Area::Part, Kind::Changed, title_ + " compression",
                      std::string(compression_name(a.compression())),
                      std::string(compression_name(b.compression()))});
  }

 private:
  Difference& add(Kind kind, const std::string& place, std::string before, std::string after) {
    const std::string where = title_ == "ramdisk" ? "/" + place : title_ + ": /" + place;
    const Area area = is_policy_name(place) ? Area::Selinux : Area::Ramdisk;
    out_.push_back({area, kind, where, std::move(before), std::move(after)});
    return out_.back();
  }

  void both(const std::string& place, const Left& a, const Left& b) {
    const Entry &was = *a.entry, &now = *b.entry;
    if (was.type() != now.type()) {
      add(Kind::Type, place, describe(a), describe(b));
      return;
    }
    const auto mode = [](const Entry& e) { return fmt::format("{:04o}", e.mode() & 07777u); };
    if (mode(was) != mode(now)) add(Kind::Mode, place, mode(was), mode(now));
    const auto owner = [](const Entry& e) {
      return fmt::format("{}:{}", e.get(EntryField::Uid), e.get(EntryField::Gid));
    };
    if (owner(was) != owner(now)) add(Kind::Owner, place, owner(was), owner(now));
    const auto device = [](const Entry& e) {
      return fmt::format("{}:{}", e.get(EntryField::RdevMajor), e.get(EntryField::RdevMinor));
    };
    if (device(was) != device(now)) add(Kind::Device, place, device(was), device(now));
    content(place, a, b);
  }

  void content(const std::string& place, const Left& a, const Left& b) {
    const View was = a.carrier->data().view(), now = b.carrier->data().view();
    if (equal(was, now)) return;
    if (a.entry->type() == newc::Symlink) {
      add(Kind::Link, place, std::string(as_text(was)), std::string(as_text(now)));
      return;
    }
    Difference& difference = add(Kind::Content, place, fmt::format("{} bytes", was.size()),
                                 fmt::format("{} bytes", now.size()));
    const bool text = was.size() <= kSmallText && now.size() <= kSmallText &&
                      looks_like_text(as_text(was)) && looks_like_text(as_text(now));
    if (text) difference.lines = diff_lines(as_text(was), as_text(now));
  }

  std::string title_;
  std::vector<Difference>& out_;
};

const ReadRamdisk* find(const ImageReading& reading, const std::string& title) {
  const auto at = std::ranges::find_if(
      reading.ramdisks, [&](const ReadRamdisk& one) { return one.part.title() == title; });
  return at == reading.ramdisks.end() ? nullptr : &*at;
}

}  // namespace

void compare_ramdisks(const ImageReading& a, const ImageReading& b, std::vector<Difference>& out) {
  for (const ReadRamdisk& one : a.ramdisks) {
    const std::string title = one.part.title();
    const ReadRamdisk* other = find(b, title);
    if (other == nullptr) {
      out.push_back(
          {Area::Part, Kind::Removed, title, fmt::format("{} bytes", one.part.bytes.size()), ""});
      continue;
    }
    if (one.part.type != other->part.type)
      out.push_back({Area::Header, Kind::Changed, title + " type",
                     boot::ramdisk_type_name(one.part.type),
                     boot::ramdisk_type_name(other->part.type)});
    if (one.part.board_id != other->part.board_id)
      out.push_back({Area::Header, Kind::Changed, title + " board_id", "", ""});
    if (one.ramdisk && other->ramdisk) {
      Walk(title, out).run(*one.ramdisk, *other->ramdisk);
    } else if (!equal(one.part.bytes.view(), other->part.bytes.view())) {
      out.push_back({Area::Part, Kind::Content, title,
                     fmt::format("{} bytes", one.part.bytes.size()),
                     fmt::format("{} bytes", other->part.bytes.size())});
    }
  }
  for (const ReadRamdisk& one : b.ramdisks)
    if (find(a, one.part.title()) == nullptr)
      out.push_back({Area::Part, Kind::Added, one.part.title(), "",
                     fmt::format("{} bytes", one.part.bytes.size())});
}

}  // namespace wexlo
