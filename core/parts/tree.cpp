#include "parts/tree.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>
#include <tuple>
#include <utility>

#include "base/source.hpp"
#include "parts/tree_list.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

using newc::Entry;
using newc::Field;

constexpr std::uint64_t kMaxFile = 0xffffffffu;  ///< what a newc entry can hold

/// What stands in tree/, links not followed.
struct OnDisk {
  std::set<std::string> folders;
  std::map<std::string, fs::path> files;
  std::map<std::string, std::string> links;
};

Result<OnDisk> scan(const fs::path& tree) {
  OnDisk found;
  std::error_code error;
  for (fs::recursive_directory_iterator at(tree, error), end; !error && at != end;
       at.increment(error)) {
    const std::string place = at->path().lexically_relative(tree).string();
    const auto type = at->symlink_status().type();
    if (type == fs::file_type::directory)
      found.folders.insert(place);
    else if (type == fs::file_type::symlink)
      found.links.emplace(place, fs::read_symlink(at->path(), error).string());
    else if (type == fs::file_type::regular)
      found.files.emplace(place, at->path());
    else
      return fail({.code = ErrorCode::Unsupported,
                   .message = "neither a file, a folder nor a link",
                   .file = at->path().string(),
                   .hint = "Device nodes and pipes go into the list."});
  }
  if (error) return fail(io_error(error.value(), "cannot read the folder", tree.string()));
  return found;
}

Result<Blob> read_file(const fs::path& path) {
  WEXLO_TRY(const SourcePtr source, open_file(path));
  return read_all(*source, kMaxFile);
}

/// Applies a list to the stock entries, stream by stream.
class Rebuild {
 public:
  Rebuild(Ramdisk& ramdisk, const TreePaths& paths, OnDisk disk)
      : ramdisk_(ramdisk), paths_(paths), disk_(std::move(disk)), stock_rows_(rows_of(ramdisk)) {}

  Result<std::vector<TreeChange>> run(const std::vector<ListRow>& rows) {
    index_stock();
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
    std::ranges::sort(changes_, {}, [](const TreeChange& c) { return std::tie(c.place, c.what); });
    return std::move(changes_);
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
    return at->second;
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
      changes_.push_back({"removed", newc::place_of(row.name), "no longer in the tree"});
      gone_[stream].push_back(known->entry);
      return {};
    }
    Entry entry = known != nullptr ? *known->entry : Entry::make(row.name, type_bits(row.type), {});
    if (known == nullptr) changes_.push_back({"added", newc::place_of(row.name), "by the list"});
    WEXLO_CHECK(set_attributes(entry, row, known != nullptr ? known->row : nullptr));
    if (row.type == "f" && row.linked.empty()) {
      WEXLO_TRY(Blob content, read_file(*content_path(row)));
      if (!equal(content.view(), entry.data().view())) {
        if (known != nullptr)
          changes_.push_back({"content", newc::place_of(row.name),
                              fmt::format("{} -> {} bytes", entry.data().size(), content.size())});
        entry.set_data(std::move(content));
      }
    }
    out.push_back(std::move(entry));
    return {};
  }

  Status set_attributes(Entry& entry, const ListRow& row, const ListRow* stock) {
    if (stock != nullptr && stock->same_attributes(row)) return {};
    if (stock != nullptr)
      changes_.push_back(
          {"attributes", newc::place_of(row.name),
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
        changes_.push_back({"removed", place, "no longer in the list"});
        handled_.insert(place);  // its file may still be in the tree: it is not a new one
        gone_[stream].push_back(stock.entry);
      }
    }
    for (const Entry* gone : gone_[stream])
      leave_links(*gone, entries);
    newc::Archive changed = ramdisk_.segments[stream].archive;
    changed.entries = std::move(entries);
    if (newc::write(changed) == newc::write(ramdisk_.segments[stream].archive)) return;
    if (changes_.empty()) changes_.push_back({"order", "", "the list's lines were moved"});
    ramdisk_.segments[stream].archive = std::move(changed);
    ramdisk_.segments[stream].touched = true;
  }

  Status add_new_files() {
    std::set<std::string> known;
    for (const RamdiskSegment& segment : ramdisk_.segments)
      for (const Entry& entry : segment.archive.entries)
        known.insert(newc::place_of(entry.name()));
    std::map<std::string, Entry> fresh;  // in the order of their names: same in, same out
    for (const auto& place : disk_.folders)
      if (!known.contains(place) && !removed(place))
        fresh.emplace(place, Entry::make(place, newc::Directory | 0755, {}));
    for (const auto& [place, target] : disk_.links)
      if (!handled_.contains(place))
        fresh.emplace(place, Entry::make(place, newc::Symlink | 0777, Blob(to_bytes(target))));
    for (const auto& [place, path] : disk_.files) {
      if (handled_.contains(place)) continue;
      std::error_code ignored;
      const auto mode = fs::status(path, ignored).permissions();
      const bool runs = (mode & fs::perms::owner_exec) != fs::perms::none;
      WEXLO_TRY(Blob content, read_file(path));
      fresh.emplace(place,
                    Entry::make(place, newc::Regular | (runs ? 0755u : 0644u), std::move(content)));
    }
    for (auto& [place, entry] : fresh) {
      if (find_entry(ramdisk_, place)) continue;
      WEXLO_TRY(const auto made, add_entry(ramdisk_, std::move(entry)));
      for (const std::string& one : made)
        changes_.push_back({"added", one, "new in the tree"});
    }
    return {};
  }
  bool removed(const std::string& place) const {
    return std::ranges::any_of(changes_, [&](const TreeChange& change) {
      return change.what == "removed" && change.place == place;
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
  std::vector<TreeChange> changes_;
};

}  // namespace

Result<std::vector<TreeChange>> apply_tree(Ramdisk& ramdisk, const TreePaths& paths) {
  WEXLO_TRY(const Blob text, read_file(paths.list));
  auto rows = parse_rows(as_text(text.view()));
  if (!rows) return fail(in_file(std::move(rows).error(), paths.list.string()));
  WEXLO_TRY(OnDisk disk, scan(paths.tree));
  Rebuild rebuild(ramdisk, paths, std::move(disk));
  WEXLO_TRY(auto changes, rebuild.run(*rows));
  WEXLO_CHECK(check_places(ramdisk));
  return changes;
}

}  // namespace wexlo::parts
