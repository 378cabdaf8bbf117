#pragma once
/// What the listings of a package say of its files, together.

#include <map>

#include "archive/bundle.hpp"
#include "firmware/listing.hpp"

namespace wexlo {

/// Bytes of a text in a package that is read: listings, lists of digests, facts of the build.
inline constexpr std::uint64_t kMaxText = 4u << 20;

class ListingIndex {
 public:
  /// @param bundle  lives as long
  explicit ListingIndex(const Bundle& bundle);
  /// Reads one listing; facts of the build go to `build`. Gives the number of its rows.
  std::size_t add(const Item& item, std::string_view text, BuildFacts& build);

  /// The name that the rows give a file: the one of all, without what tells slots apart.
  [[nodiscard]] std::optional<std::string> name_of(const Item& item) const;
  /// Digests of the file as it is stored.
  [[nodiscard]] std::vector<Promise> promises_of(const Item& item) const;
  /// The file holds several partitions, at places that the rows name.
  [[nodiscard]] bool has_slices(const Item& item) const;
  [[nodiscard]] const std::vector<ListingRow>& rows_of(const Item& item) const;

 private:
  [[nodiscard]] const Item* find(std::string_view folder, std::string_view file) const;

  const Bundle& bundle_;
  std::map<const Item*, std::vector<ListingRow>> rows_;
  std::map<std::string_view, const Item*> by_path_;
  std::map<std::string_view, const Item*> by_name_;  ///< nullptr: several of that name
};

}  // namespace wexlo
