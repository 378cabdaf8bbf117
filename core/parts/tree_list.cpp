#include "parts/tree_list.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "text/text.hpp"

namespace wexlo::parts {
namespace {

using newc::Entry;
using newc::Field;

constexpr std::array<std::pair<std::string_view, std::uint32_t>, 7> kTypes{{{"f", newc::Regular},
                                                                            {"d", newc::Directory},
                                                                            {"l", newc::Symlink},
                                                                            {"c", newc::Character},
                                                                            {"b", newc::Block},
                                                                            {"p", newc::Fifo},
                                                                            {"s", newc::Socket}}};

constexpr std::string_view kNotMade = "-";  ///< a folder that stands in the list alone

constexpr std::string_view kHead =
    "# The ramdisk's entries in their order: TYPE MODE UID GID MTIME DEVICE NAME\n"
    "# TYPE: f file, d folder, l symlink (-> TARGET), c and b device (MAJOR:MINOR), p pipe, s "
    "socket\n"
    "# = FILE: the content is in tree.odd/FILE   == NAME: a hard link, its content is at NAME\n"
    "# Of a name that occurs more than once the last entry counts: its content is in tree/,\n"
    "# that of the others in tree.odd/.\n"
    "# %XX is a byte. A line taken out removes the entry; a file put into tree/ needs no line.\n";

/// Which places in tree/ are taken. Compared without case, so that the folder can be moved to a
/// file system that ignores it.
class Claims {
 public:
  /// False when the content has to go to tree.odd/ instead.
  bool claim(const std::string& place, bool folder) {
    if (place.empty() || !portable(place)) return place.empty() && folder;
    for (std::size_t cut = place.find('/'); cut != std::string::npos;
         cut = place.find('/', cut + 1))
      if (!take(place.substr(0, cut), true)) return false;
    const auto at = taken_.find(lower_case(place));
    if (at != taken_.end() && !folder) return false;
    return take(place, folder);
  }

 private:
  struct Claim {
    std::string place;
    bool folder;
  };
  bool take(const std::string& place, bool folder) {
    const auto [at, fresh] = taken_.emplace(lower_case(place), Claim{place, folder});
    return fresh || (at->second.place == place && at->second.folder && folder);
  }
  static bool portable(std::string_view place) {
    for (const unsigned char c : place)
      if (c < 0x20 || c >= 0x7f ||
          std::string_view("\\:*?\"<>|").find(static_cast<char>(c)) != std::string_view::npos)
        return false;
    const std::string framed = "/" + std::string(place) + "/";
    return place.size() < 1000 && framed.find("./") == std::string::npos &&
           framed.find(" /") == std::string::npos && longest_component(place) < 200;
  }
  static std::size_t longest_component(std::string_view place) {
    std::size_t longest = 0;
    while (!place.empty()) {
      const std::size_t end = std::min(place.find('/'), place.size());
      longest = std::max(longest, end);
      place.remove_prefix(std::min(end + 1, place.size()));
    }
    return longest;
  }
  std::map<std::string, Claim> taken_;
};

ListRow row_of(const Entry& entry) {
  ListRow row{.mode = entry.mode() & 07777,
              .uid = entry.get(Field::Uid),
              .gid = entry.get(Field::Gid),
              .mtime = entry.get(Field::Mtime),
              .major = entry.get(Field::RdevMajor),
              .minor = entry.get(Field::RdevMinor),
              .name = entry.name()};
  const auto at = std::ranges::find(kTypes, entry.type(), [](const auto& t) { return t.second; });
  // An unknown type keeps its bits as a number, so that nothing is lost.
  row.type = at == kTypes.end() ? fmt::format("?{:o}", entry.type()) : std::string(at->first);
  if (row.type == "l") row.target = as_text(entry.data().view());
  return row;
}

std::unexpected<Error> bad_line(std::size_t line, std::string_view why, std::string_view found) {
  return fail({.code = ErrorCode::BadValue,
               .message = fmt::format("line {} of the list: {}", line, why),
               .found = fmt::format("\"{}\"", found),
               .hint = "The first lines of the list say what a line holds."});
}

Result<std::uint32_t> number(const ListRow& row, std::string_view word, int base) {
  std::uint32_t value = 0;
  const auto [end, bad] = std::from_chars(word.data(), word.data() + word.size(), value, base);
  if (bad != std::errc() || end != word.data() + word.size())
    return bad_line(row.line, "not a number", word);
  return value;
}

Status parse_entry(ListRow& row, const std::vector<std::string_view>& words) {
  WEXLO_TRY(row.mode, number(row, words[1], 8));
  WEXLO_TRY(row.uid, number(row, words[2], 10));
  WEXLO_TRY(row.gid, number(row, words[3], 10));
  WEXLO_TRY(row.mtime, number(row, words[4], 10));
  if (words[5] != "-") {
    const std::size_t colon = words[5].find(':');
    if (colon == std::string_view::npos) return bad_line(row.line, "not MAJOR:MINOR", words[5]);
    WEXLO_TRY(row.major, number(row, words[5].substr(0, colon), 10));
    WEXLO_TRY(row.minor, number(row, words[5].substr(colon + 1), 10));
  }
  WEXLO_TRY(row.name, percent_decode(words[6]));
  for (std::size_t i = 7; i < words.size(); i += 2) {
    if (i + 1 >= words.size()) return bad_line(row.line, "a word is missing after", words[i]);
    std::string* into = words[i] == "->"   ? &row.target
                        : words[i] == "="  ? &row.odd
                        : words[i] == "==" ? &row.linked
                                           : nullptr;
    if (into == nullptr) return bad_line(row.line, "not ->, = or ==", words[i]);
    // Each word belongs to types of its own; elsewhere it would be lost when the list is written.
    const std::string_view types = into == &row.target ? "l" : into == &row.odd ? "fd" : "f";
    if (types.find(row.type) == types.npos)
      return bad_line(row.line, fmt::format("an entry of type {} has none", row.type), words[i]);
    WEXLO_TRY(*into, percent_decode(words[i + 1]));
  }
  if (row.mode > 07777) return bad_line(row.line, "the mode has more than 12 bits", words[1]);
  return {};
}

}  // namespace

bool ListRow::same_attributes(const ListRow& other) const {
  return type == other.type && mode == other.mode && uid == other.uid && gid == other.gid &&
         mtime == other.mtime && major == other.major && minor == other.minor &&
         target == other.target;
}

namespace {

/// Where each place is named last: what a kernel ends up with there.
std::map<std::string, const Entry*> last_of_each(const Ramdisk& ramdisk) {
  std::map<std::string, const Entry*> out;
  for (const RamdiskSegment& segment : ramdisk.segments)
    for (const Entry& entry : segment.archive.entries)
      if (!entry.is_trailer()) out[newc::place_of(entry.name())] = &entry;
  return out;
}

}  // namespace

std::vector<ListRow> rows_of(const Ramdisk& ramdisk) {
  std::vector<ListRow> rows;
  Claims claims;
  const auto last = last_of_each(ramdisk);
  std::size_t odd = 0;
  for (const RamdiskSegment& segment : ramdisk.segments) {
    rows.push_back({.type = "stream", .name = std::string(compression_name(segment.compression))});
    const auto carriers = content_carriers(segment.archive);
    for (std::size_t i = 0; i < segment.archive.entries.size(); ++i) {
      const Entry& entry = segment.archive.entries[i];
      if (entry.is_trailer()) {
        rows.push_back({.type = "end"});
        continue;
      }
      ListRow row = row_of(entry);
      // A hard link without data of its own names the entry that has it.
      if (carriers[i] != i) row.linked = segment.archive.entries[carriers[i]].name();
      const bool folder = row.type == "d";
      const std::string place = newc::place_of(row.name);
      const Entry* const winner = last.at(place);
      // A folder named again stays the same folder.
      row.replaced = winner != &entry && !(folder && winner->type() == newc::Directory);
      if ((folder || row.type == "f") && row.linked.empty() &&
          (row.replaced || !claims.claim(place, folder)))
        row.odd = folder ? std::string(kNotMade) : fmt::format("{:04}", ++odd);
      rows.push_back(std::move(row));
    }
  }
  return rows;
}

std::string format_rows(const std::vector<ListRow>& rows) {
  std::string out(kHead);
  for (const ListRow& row : rows) {
    if (row.type == "end") {
      out += "end\n";
      continue;
    }
    if (row.type == "stream") {
      out += fmt::format("stream {}\n", row.name);
      continue;
    }
    const bool device = row.major != 0 || row.minor != 0;
    if (row.replaced) out += "# replaced by a later entry of that name:\n";
    out += fmt::format("{} {:04o} {} {} {} {} {}", row.type, row.mode, row.uid, row.gid, row.mtime,
                       device ? fmt::format("{}:{}", row.major, row.minor) : "-",
                       percent_encode(row.name));
    if (row.type == "l") out += " -> " + percent_encode(row.target);
    if (!row.odd.empty()) out += " = " + percent_encode(row.odd);
    if (!row.linked.empty()) out += " == " + percent_encode(row.linked);
    out += '\n';
  }
  return out;
}

Result<std::vector<ListRow>> parse_rows(std::string_view text) {
  std::vector<ListRow> rows;
  std::size_t line_number = 0;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    const auto words = split_words(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
    ++line_number;
    if (words.empty() || words[0].starts_with('#')) continue;
    ListRow row{.type = std::string(words[0]), .line = line_number};
    if (row.type == "end") {
      rows.push_back(std::move(row));
      continue;
    }
    if (row.type == "stream") {
      if (words.size() != 2) return bad_line(line_number, "not `stream COMPRESSION`", words[0]);
      row.name = words[1];
      rows.push_back(std::move(row));
      continue;
    }
    const bool known = type_bits(row.type) != 0 || row.type.starts_with('?');
    if (!known) return bad_line(line_number, "no such type", words[0]);
    // A symlink with an empty target has no word behind its arrow.
    auto padded = words;
    if (row.type == "l" && padded.size() == 8) padded.emplace_back();
    if (padded.size() < 7) return bad_line(line_number, "too few words", words.back());
    WEXLO_CHECK(parse_entry(row, padded));
    rows.push_back(std::move(row));
  }
  return rows;
}

std::uint32_t type_bits(std::string_view type) {
  const auto at = std::ranges::find(kTypes, type, [](const auto& t) { return t.first; });
  if (at != kTypes.end()) return at->second;
  std::uint32_t value = 0;
  if (type.starts_with('?')) std::from_chars(type.data() + 1, type.data() + type.size(), value, 8);
  return value & newc::TypeMask;
}

}  // namespace wexlo::parts
