#include "parts/tree.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <set>
#include <tuple>
#include <utility>

#include "base/source.hpp"
#include "parts/tree_disk.hpp"
#include "parts/tree_list.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

using newc::Entry;
using newc::Field;

constexpr std::uint64_t kMaxFile = 0xffffffffu;  ///< what a newc entry can hold

Result<Blob> read_file(const fs::path& path) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  return read_all(*source, kMaxFile);
}

/// Applies a list to the stock entries, stream by stream.
class Rebuild {
 public:
  Rebuild(Ramdisk& ramdisk, const TreePaths& paths, OnDisk disk)
      : ramdisk_(ramdisk), paths_(paths), disk_(std::move(disk)), stock_rows_(rows_of(ramdisk)) {}

  Result<AppliedTree> run(const std::vector<ListRow>& rows) {
    index_stock();
    renames_ = find_renames(disk_, rows, ramdisk_);
    keeps_modes_ = keeps_modes(disk_, stock_rows_);
    if (!keeps_modes_)
      notes_.push_back(
          "The folder does not keep permission bits (another file system, or a copy): "
          "those of the list were taken.");
    std::vector<std::vector<Entry>> streams;
    for (const ListRow& row : rows) {
      if (row.type == "stream") {
        streams.emplace_back();
        continue;
      }
      if (streams.empty() || streams.size() > ramdisk_.segments.size())
        return fail({.code = ErrorCode::BadValue,
                     .message = fmt::format("line {} of the list belongs to no stream of the "
                                            "ramdisk",
                                            row.line),
                     .hint = "Keep the `stream` lines as they were."});
      WEXLO_CHECK(take_row(row, streams.size() - 1, streams.back()));
    }
    streams.resize(ramdisk_.segments.size());
    for (std::size_t s = 0; s < streams.size(); ++s)
      finish_stream(s, std::move(streams[s]));
    WEXLO_CHECK(add_new_files());
    std::ranges::sort(changes_, {}, [](const TreeChange& c) { return std::tie(c.place, c.kind); });
    return AppliedTree{std::move(changes_), std::move(notes_)};
  }

 private:
  struct Stock {
    const Entry* entry;
    const ListRow* row;
    bool used = false;
  };
  /// What rows are matched by: entries of one name are told apart by their order.
  struct Name {
    std::size_t stream;
    bool end;
    std::string name;
    auto operator<=>(const Name&) const = default;
  };

  static Name name_of(const ListRow& row, std::size_t stream) {
    return {stream, row.type == "end", row.name};
  }

  void index_stock() {
    std::size_t stream = 0, index = 0;
    for (const ListRow& row : stock_rows_) {
      if (row.type == "stream") {
        if (&row != stock_rows_.data()) ++stream;
        index = 0;
        continue;
      }
      stock_[name_of(row, stream)].push_back(
          {&ramdisk_.segments[stream].archive.entries[index++], &row});
    }
  }

  /// The stock entry that a row of the list speaks of; nullptr: a new one.
  Stock* match(const ListRow& row, std::size_t stream) {
    const Name name = name_of(row, stream);
    const std::size_t nth = seen_[name]++;
    const auto at = stock_.find(name);
    if (at == stock_.end() || nth >= at->second.size()) return nullptr;
    at->second[nth].used = true;
    return &at->second[nth];
  }

  /// The file that holds a row's content; nullopt: it is gone from the disk.
  std::optional<fs::path> content_path(const ListRow& row) {
    if (!row.odd.empty()) {
      // Only a plain name: a list from elsewhere must not make repack read other files.
      const fs::path file = paths_.odd / fs::path(row.odd).filename();
      std::error_code ignored;
      if (!fs::is_regular_file(fs::symlink_status(file, ignored))) return std::nullopt;
      return file;
    }
    const auto at = disk_.files.find(newc::place_of(row.name));
    if (at == disk_.files.end()) return std::nullopt;
    return at->second.path;
  }

  bool is_gone(const ListRow& row) {
    const std::string place = newc::place_of(row.name);
    if (row.type == "d") return !place.empty() && row.odd.empty() && !disk_.folders.contains(place);
    return row.type == "f" && row.linked.empty() && !content_path(row);
  }

  Status take_row(const ListRow& row, std::size_t stream, std::vector<Entry>& out) {
    const Stock* known = match(row, stream);
    if (row.type == "end") {
      out.push_back(known != nullptr ? *known->entry
                                     : Entry::make(std::string(newc::kTrailer), 0, {}));
      return {};
    }
    if (row.type != "d") handled_.insert(newc::place_of(row.name));
    if (is_gone(row)) {
      if (known == nullptr)
        return fail(
            {.code = ErrorCode::NotFound,
             .message = fmt::format("line {} of the list names a file that is not there", row.line),
             .file = (paths_.tree / newc::place_of(row.name)).string(),
             .hint = "Put the file into the tree, or take the line out."});
      if (const auto renamed = renames_.find(row.line); renamed != renames_.end()) {
        take_renamed(*known->entry, row, renamed->second, out);
        return {};
      }
      changes_.push_back(
          {TreeChangeKind::Removed, newc::place_of(row.name), "no longer in the tree"});
      gone_[stream].push_back(known->entry);
      return {};
    }
    Entry entry = known != nullptr ? *known->entry : Entry::make(row.name, type_bits(row.type), {});
    if (known == nullptr)
      changes_.push_back({TreeChangeKind::Added, newc::place_of(row.name), "by the list"});
    WEXLO_CHECK(set_attributes(entry, row, known != nullptr ? known->row : nullptr));
    bool rewritten = false;
    if (row.type == "f" && row.linked.empty()) {
      WEXLO_TRY(Blob content, read_file(*content_path(row)));
      rewritten = !equal(content.view(), entry.data().view());
      if (rewritten) {
        if (known != nullptr)
          changes_.push_back({TreeChangeKind::Content, newc::place_of(row.name),
                              fmt::format("{} -> {} bytes", entry.data().size(), content.size())});
        entry.set_data(std::move(content));
      }
    }
    if (known != nullptr && known->row->mode == row.mode) take_mode(entry, row, rewritten);
    out.push_back(std::move(entry));
    return {};
  }

  /// Permission bits that were changed on the disk; the list goes before them.
  void take_mode(Entry& entry, const ListRow& row, bool rewritten) {
    if (!keeps_modes_ || !row.odd.empty() || !row.linked.empty()) return;
    const std::string place = newc::place_of(row.name);
    std::uint32_t mode = row.mode;
    if (const auto file = disk_.files.find(place); row.type == "f" && file != disk_.files.end())
      mode = mode_from_disk(row, file->second.mode, rewritten);
    if (const auto at = disk_.folders.find(place); row.type == "d" && at != disk_.folders.end())
      mode = mode_from_disk(row, at->second, false);
    if (mode == row.mode) return;
    changes_.push_back(
        {TreeChangeKind::Mode, place, fmt::format("{:04o} -> {:04o}", row.mode, mode)});
    entry.set(Field::Mode, type_bits(row.type) | mode);
  }

  /// Keeps everything but the name; in its place in the order when its folder is the same.
  void take_renamed(const Entry& stock, const ListRow& row, const std::string& place,
                    std::vector<Entry>& out) {
    const std::string old = newc::place_of(row.name);
    changes_.push_back({TreeChangeKind::Renamed, old, "-> /" + place});
    handled_.insert(place);
    Entry entry = stock;
    const auto folder = [](const std::string& of) { return of.substr(0, of.rfind('/') + 1); };
    if (folder(old) == folder(place)) {
      entry.rename(row.name.substr(0, row.name.size() - old.size()) + place);
      out.push_back(std::move(entry));
    } else {
      entry.rename(place);
      moved_.push_back(std::move(entry));
    }
  }

  Status set_attributes(Entry& entry, const ListRow& row, const ListRow* stock) {
    if (stock != nullptr && stock->same_attributes(row)) return {};
    if (stock != nullptr)
      changes_.push_back(
          {TreeChangeKind::Attributes, newc::place_of(row.name),
           fmt::format("{} {:04o} {}:{} -> {} {:04o} {}:{}", stock->type, stock->mode, stock->uid,
                       stock->gid, row.type, row.mode, row.uid, row.gid)});
    entry.set(Field::Mode, type_bits(row.type) | row.mode);
    entry.set(Field::Uid, row.uid);
    entry.set(Field::Gid, row.gid);
    entry.set(Field::Mtime, row.mtime);
    entry.set(Field::RdevMajor, row.major);
    entry.set(Field::RdevMinor, row.minor);
    if (row.type == "l") entry.set_data(Blob(to_bytes(row.target)));
    if (row.type != "l" && row.type != "f" && !entry.data().empty()) entry.set_data({});
    return {};
  }

  /// Takes a removed entry out of its hard-link group: the others' count falls, and its data goes
  /// to the last of them.
  static void leave_links(const Entry& gone, std::vector<Entry>& entries) {
    if (gone.type() != newc::Regular || gone.get(Field::Nlink) < 2) return;
    bool data_left = !gone.data().empty();
    for (auto entry = entries.rbegin(); entry != entries.rend(); ++entry) {
      const bool linked = entry->type() == newc::Regular && entry->get(Field::Nlink) > 1;
      const auto same = [&](Field field) { return entry->get(field) == gone.get(field); };
      if (!linked || !same(Field::Ino) || !same(Field::DevMajor) || !same(Field::DevMinor))
        continue;
      entry->set(Field::Nlink, entry->get(Field::Nlink) - 1);
      if (std::exchange(data_left, false) && entry->data().empty()) entry->set_data(gone.data());
    }
  }

  void finish_stream(std::size_t stream, std::vector<Entry> entries) {
    for (const auto& [name, group] : stock_) {
      for (const Stock& stock : group) {
        if (name.stream != stream || stock.used || stock.row->type == "end") continue;
        const std::string place = newc::place_of(stock.row->name);
        changes_.push_back({TreeChangeKind::Removed, place, "no longer in the list"});
        handled_.insert(place);  // its file may still be in the tree: it is not a new one
        gone_[stream].push_back(stock.entry);
      }
    }
    for (const Entry* gone : gone_[stream])
      leave_links(*gone, entries);
    newc::Archive changed = ramdisk_.segments[stream].archive;
    changed.entries = std::move(entries);
    newc::give_sums(changed);
    if (newc::same(changed, ramdisk_.segments[stream].archive)) return;
    if (changes_.empty())
      changes_.push_back({TreeChangeKind::Order, "", "the list's lines were moved"});
    ramdisk_.segments[stream].archive = std::move(changed);
    ramdisk_.segments[stream].touched = true;
  }

  Status add_new_files() {
    std::set<std::string> known;
    for (const RamdiskSegment& segment : ramdisk_.segments)
      for (const Entry& entry : segment.archive.entries)
        known.insert(newc::place_of(entry.name()));
    std::map<std::string, Entry> fresh;  // in the order of their names: same in, same out
    // A folder may stand on the disk only because a file of the archive is in it.
    const auto leads_to_known = [&](const std::string& place) {
      const auto next = known.lower_bound(place + "/");
      return next != known.end() && next->starts_with(place + "/");
    };
    for (const auto& [place, mode] : disk_.folders)
      if (!known.contains(place) && !leads_to_known(place) && !removed(place))
        fresh.emplace(place, Entry::make(place, newc::Directory | 0755, {}));
    for (const auto& [place, target] : disk_.links)
      if (!handled_.contains(place))
        fresh.emplace(place, Entry::make(place, newc::Symlink | 0777, Blob(to_bytes(target))));
    for (const auto& [place, file] : disk_.files) {
      if (handled_.contains(place)) continue;
      const bool runs = (file.mode & 0100u) != 0;
      WEXLO_TRY(Blob content, read_file(file.path));
      fresh.emplace(place,
                    Entry::make(place, newc::Regular | (runs ? 0755u : 0644u), std::move(content)));
    }
    std::set<std::string> told;
    for (Entry& entry : moved_) {
      told.insert(newc::place_of(entry.name()));
      fresh.emplace(newc::place_of(entry.name()), std::move(entry));
    }
    for (auto& [place, entry] : fresh) {
      if (find_entry(ramdisk_, place)) continue;
      WEXLO_TRY(const auto made, add_entry(ramdisk_, std::move(entry)));
      for (const std::string& one : made)
        if (!told.contains(one))
          changes_.push_back({TreeChangeKind::Added, one, "new in the tree"});
    }
    return {};
  }
  bool removed(const std::string& place) const {
    return std::ranges::any_of(changes_, [&](const TreeChange& change) {
      return change.kind == TreeChangeKind::Removed && change.place == place;
    });
  }

  Ramdisk& ramdisk_;
  const TreePaths& paths_;
  OnDisk disk_;
  std::vector<ListRow> stock_rows_;
  std::map<Name, std::vector<Stock>> stock_;
  std::map<Name, std::size_t> seen_;
  std::set<std::string> handled_;
  std::map<std::size_t, std::vector<const Entry*>> gone_;  ///< by stream
  std::map<std::size_t, std::string> renames_;             ///< line of the list -> the new place
  std::vector<Entry> moved_;                               ///< renamed into another folder
  bool keeps_modes_ = true;
  std::vector<TreeChange> changes_;
  std::vector<std::string> notes_;
};

}  // namespace

std::string_view tree_change_name(TreeChangeKind kind) {
  constexpr std::array<std::string_view, 7> kNames{"added", "attributes", "content", "mode",
                                                   "order", "removed",    "renamed"};
  return kNames[static_cast<std::size_t>(kind)];
}

Result<AppliedTree> apply_tree(Ramdisk& ramdisk, const TreePaths& paths) {
  WEXLO_TRY(const Blob text, read_file(paths.list));
  auto rows = parse_rows(as_text(text.view()));
  if (!rows) return fail(in_file(std::move(rows).error(), paths.list.string()));
  WEXLO_TRY(OnDisk disk, scan_tree(paths.tree));
  Rebuild rebuild(ramdisk, paths, std::move(disk));
  WEXLO_TRY(auto applied, rebuild.run(*rows));
  WEXLO_CHECK(check_places(ramdisk));
  return applied;
}

}  // namespace wexlo::parts
