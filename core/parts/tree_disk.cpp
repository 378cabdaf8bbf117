#include "parts/tree_disk.hpp"

#include <algorithm>

#include "base/digest.hpp"
#include "base/source.hpp"

namespace wexlo::parts {
namespace fs = std::filesystem;
namespace {

constexpr std::uint32_t kOwnerEdits = 0600, kOwnerEnters = 0700;

bool is_plain_file(const ListRow& row) {
  return row.type == "f" && row.linked.empty() && row.odd.empty();
}

}  // namespace

Result<OnDisk> scan_tree(const fs::path& tree) {
  OnDisk found;
  std::error_code error;
  for (fs::recursive_directory_iterator at(tree, error), end; !error && at != end;
       at.increment(error)) {
    const std::string place = at->path().lexically_relative(tree).string();
    const auto status = at->symlink_status();
    const auto mode = static_cast<std::uint32_t>(status.permissions()) & 0777u;
    if (status.type() == fs::file_type::directory)
      found.folders.emplace(place, mode);
    else if (status.type() == fs::file_type::symlink)
      found.links.emplace(place, fs::read_symlink(at->path(), error).string());
    else if (status.type() == fs::file_type::regular)
      found.files.emplace(place, DiskFile{at->path(), mode});
    else
      return fail({.code = ErrorCode::Unsupported,
                   .message = "neither a file, a folder nor a link",
                   .file = at->path().string(),
                   .hint = "Device nodes and pipes go into the list."});
  }
  if (error) return fail(io_error(error.value(), "cannot read the folder", tree.string()));
  return found;
}

std::uint32_t disk_mode(const ListRow& row) {
  return (row.mode & 0777u) | (row.type == "d" ? kOwnerEnters : kOwnerEdits);
}

bool keeps_modes(const OnDisk& disk, const std::vector<ListRow>& rows) {
  std::size_t same = 0, all = 0;
  const auto count = [&](const ListRow& row, std::uint32_t mode) {
    ++all;
    same += mode == disk_mode(row) ? 1 : 0;
  };
  for (const ListRow& row : rows) {
    const std::string place = newc::place_of(row.name);
    if (const auto at = disk.files.find(place); is_plain_file(row) && at != disk.files.end())
      count(row, at->second.mode);
    if (const auto at = disk.folders.find(place); row.type == "d" && at != disk.folders.end())
      count(row, at->second);
  }
  return 2 * same >= all;
}

std::uint32_t mode_from_disk(const ListRow& row, std::uint32_t actual, bool rewritten) {
  const std::uint32_t written = disk_mode(row);
  // A copy loses what the usual mask (022) takes away; a new file has what it leaves.
  const bool copied = actual == (written & ~022u);
  const bool fresh = rewritten && (actual == 0644 || actual == 0664);
  if (actual == written || copied || fresh) return row.mode;
  const std::uint32_t lent = written & ~row.mode;  // given only so that the owner could edit
  return (row.mode & 07000u) | (actual & ~lent);
}

std::map<std::size_t, std::string> find_renames(const OnDisk& disk,
                                                const std::vector<ListRow>& rows,
                                                const Ramdisk& stock) {
  std::map<std::size_t, std::string> out;
  std::set<std::string> listed;
  std::vector<const ListRow*> gone;
  for (const ListRow& row : rows) {
    const std::string place = newc::place_of(row.name);
    if (row.type != "d") listed.insert(place);
    if (is_plain_file(row) && !disk.files.contains(place)) gone.push_back(&row);
  }
  if (gone.empty()) return out;
  std::multimap<std::string, std::string> fresh;  // digest -> place
  for (const auto& [place, file] : disk.files) {
    if (listed.contains(place)) continue;
    const auto source = open_file(file.path);
    const auto bytes = source ? read_all(**source, 0xffffffffu) : Result<Blob>(Blob());
    if (bytes && !bytes->empty()) fresh.emplace(sha256_hex(bytes->view()), place);
  }
  for (const ListRow* row : gone) {
    const auto at = find_entry(stock, newc::place_of(row->name));
    if (!at || entry_at(stock, *at).get(newc::Field::Nlink) > 1) continue;
    const auto same = fresh.find(sha256_hex(entry_at(stock, *at).data().view()));
    if (same == fresh.end()) continue;
    out.emplace(row->line, same->second);
    fresh.erase(same);
  }
  return out;
}

}  // namespace wexlo::parts
