#include "firmware/listing_index.hpp"

#include <algorithm>
#include <set>

namespace wexlo {

ListingIndex::ListingIndex(const Bundle& bundle) : bundle_(bundle) {
  for (const Item& item : bundle_.items) {
    by_path_.emplace(item.path, &item);
    const auto [at, first] = by_name_.emplace(base_name(item.path), &item);
    if (!first) at->second = nullptr;
  }
}

const Item* ListingIndex::find(std::string_view folder, std::string_view file) const {
  const std::string beside =
      folder.empty() ? std::string(file) : std::string(folder) + "/" + std::string(file);
  if (const auto at = by_path_.find(beside); at != by_path_.end()) return at->second;
  const auto at = by_name_.find(base_name(file));
  return at == by_name_.end() ? nullptr : at->second;
}

std::size_t ListingIndex::add(const Item& item, std::string_view text, BuildFacts& build) {
  const std::size_t slash = item.path.find_last_of('/');
  const std::string folder = slash == item.path.npos ? "" : item.path.substr(0, slash);
  const Listing listing = read_listing(text, item.path, [&](std::string_view file) {
    const Item* named = find(folder, file);
    return named != nullptr && named != &item;
  });
  build.merge(listing.build);
  for (const ListingRow& row : listing.rows)
    if (const Item* named = find(folder, row.file)) rows_[named].push_back(row);
  return listing.rows.size();
}

const std::vector<ListingRow>& ListingIndex::rows_of(const Item& item) const {
  return rows_.at(&item);
}

std::optional<std::string> ListingIndex::name_of(const Item& item) const {
  const auto rows = rows_.find(&item);
  if (rows == rows_.end()) return std::nullopt;
  std::set<std::string> names, bare;
  for (const ListingRow& row : rows->second) {
    if (row.partition.empty()) continue;
    names.insert(row.partition);
    bare.emplace(without_slot(row.partition));
  }
  if (names.size() == 1) return *names.begin();
  if (bare.size() == 1) return *bare.begin();
  return std::nullopt;
}

std::vector<Promise> ListingIndex::promises_of(const Item& item) const {
  std::vector<Promise> out;
  const auto rows = rows_.find(&item);
  if (rows == rows_.end()) return out;
  for (const ListingRow& row : rows->second)
    for (const Promise& promise : row.promises)
      if (std::ranges::none_of(out, [&](const Promise& one) {
            return one.kind == promise.kind && one.hex == promise.hex;
          }))
        out.push_back(promise);
  return out;
}

bool ListingIndex::has_slices(const Item& item) const {
  const auto rows = rows_.find(&item);
  if (rows == rows_.end() || rows->second.size() < 2) return false;
  std::set<std::uint64_t> starts;
  for (const ListingRow& row : rows->second) {
    const bool placed = row.start && row.length && !row.partition.empty() && *row.length > 0;
    // Places on the phone lie beyond the file, or are given for files of their own.
    if (!placed || *row.start > item.size || *row.length > item.size - *row.start) return false;
    starts.insert(*row.start);
  }
  return starts.size() == rows->second.size();
}

}  // namespace wexlo
