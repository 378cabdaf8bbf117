#include "firmware/listing_index.hpp"

#include <algorithm>
#include <set>

#include "firmware/file_names.hpp"

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

ListingRows ListingIndex::add(const Item& item, std::string_view text, BuildFacts& build) {
  const std::size_t slash = item.path.find_last_of('/');
  const std::string folder = slash == item.path.npos ? "" : item.path.substr(0, slash);
  const Listing listing = read_listing(text, item.path, [&](std::string_view file) {
    const Item* named = find(folder, file);
    return named != nullptr && named != &item;
  });
  build.merge(listing.build);
  find_pieces(listing, folder, base_name(item.path));
  for (const ListingRow& row : listing.rows)
    if (const Item* named = find(folder, row.file)) rows_[named].push_back(row);
  return {listing.rows.size(), listing.commands};
}

void ListingIndex::find_pieces(const Listing& listing, std::string_view folder,
                               std::string_view by) {
  std::vector<ListedPieces> found;
  for (const ListingRow& row : listing.rows) {
    if (!row.place || row.partition.empty()) continue;
    auto at = std::ranges::find(found, row.partition, &ListedPieces::partition);
    if (at == found.end())
      at = found.insert(at, ListedPieces{.partition = row.partition, .by = std::string(by)});
    at->parts.push_back({find(folder, row.file), row});
  }
  std::erase_if(found, [](const ListedPieces& one) {
    return one.parts.size() < 2 ||
           std::ranges::all_of(one.parts, [](const auto& part) { return part.item == nullptr; });
  });
  std::ranges::move(found, std::back_inserter(pieces_));
}

const std::vector<ListingRow>& ListingIndex::rows_of(const Item& item) const {
  return rows_.at(&item);
}

std::optional<std::string> ListingIndex::name_of(const Item& item) const {
  if (!item.partition.empty()) return item.partition;
  const auto rows = rows_.find(&item);
  if (rows == rows_.end()) return std::nullopt;
  std::set<std::string> names, bare;
  for (const ListingRow& row : rows->second) {
    if (row.partition.empty()) continue;
    names.insert(row.partition);
    bare.emplace(without_slot(row.partition));
  }
  std::optional<std::string> name;
  if (names.size() == 1)
    name = *names.begin();
  else if (bare.size() == 1)
    name = *bare.begin();
  if (!name) return std::nullopt;
  // A file called boot.img is boot's, whatever word stood before it.
  const std::string own = read_file_name(item.path).partition;
  const auto plain_kind = [](std::string_view of) { return partition_class(without_slot(of)); };
  if (plain_kind(own) != PartitionClass::Other && plain_kind(*name) == PartitionClass::Other)
    return std::nullopt;
  return name;
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

std::optional<Slice> slice_of(const ListingRow& row) {
  if (row.place) {
    if (!row.place->sectors) return std::nullopt;
    return Slice{row.place->file_offset, *row.place->sectors * row.place->sector_size};
  }
  if (!row.start || !row.length) return std::nullopt;
  return Slice{*row.start, *row.length};
}

bool ListingIndex::has_slices(const Item& item) const {
  const auto rows = rows_.find(&item);
  if (rows == rows_.end() || rows->second.size() < 2) return false;
  std::set<std::uint64_t> starts;
  for (const ListingRow& row : rows->second) {
    const auto slice = slice_of(row);
    if (!slice || row.partition.empty() || slice->length == 0) return false;
    // Places on the phone lie beyond the file, or are given for files of their own.
    if (slice->start > item.size || slice->length > item.size - slice->start) return false;
    starts.insert(slice->start);
  }
  return starts.size() == rows->second.size();
}

}  // namespace wexlo
