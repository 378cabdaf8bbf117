#pragma once
/// What the listings of a package say of its files, together.

#include <map>

#include "archive/bundle.hpp"
#include "firmware/listing.hpp"

namespace wexlo {

/// Bytes of a text in a package that is read: listings, lists of digests, facts of the build.
inline constexpr std::uint64_t kMaxText = 4u << 20;

/// A partition that a sector-addressed listing puts together of several files, or parts of them.
struct ListedPieces {
  std::string partition;
  struct Part {
    const Item* item = nullptr;  ///< nullptr: not in the package
    ListingRow row;              ///< with its place
  };
  std::vector<Part> parts;  ///< two or more, one of them there
  std::string by;           ///< the listing
};

/// Bytes of a file that are one of several partitions in it.
struct Slice {
  std::uint64_t start = 0, length = 0;
};
/// Where a row says that its partition lies, should that be in the file.
[[nodiscard]] std::optional<Slice> slice_of(const ListingRow& row);

struct ListingRows {
  std::size_t rows = 0;
  std::size_t commands = 0;  ///< of them: a script's commands that write
};

class ListingIndex {
 public:
  /// @param bundle  lives as long
  explicit ListingIndex(const Bundle& bundle);
  /// Reads one listing; facts of the build go to `build`.
  ListingRows add(const Item& item, std::string_view text, BuildFacts& build);

  /// The name that is said of a file: its container's, else what the rows give: the one of all,
  /// without what tells slots apart. A file whose own name is of the boot chain keeps it where the
  /// rows' is not.
  [[nodiscard]] std::optional<std::string> name_of(const Item& item) const;
  /// Digests of the file as it is stored.
  [[nodiscard]] std::vector<Promise> promises_of(const Item& item) const;
  /// The file holds several partitions, at places that the rows name.
  [[nodiscard]] bool has_slices(const Item& item) const;
  [[nodiscard]] const std::vector<ListingRow>& rows_of(const Item& item) const;
  /// In the order of the listings. Two listings may put the same partition together.
  [[nodiscard]] const std::vector<ListedPieces>& pieces() const { return pieces_; }

 private:
  [[nodiscard]] const Item* find(std::string_view folder, std::string_view file) const;
  void find_pieces(const Listing& listing, std::string_view folder, std::string_view by);

  const Bundle& bundle_;
  std::map<const Item*, std::vector<ListingRow>> rows_;
  std::vector<ListedPieces> pieces_;
  std::map<std::string_view, const Item*> by_path_;
  std::map<std::string_view, const Item*> by_name_;  ///< nullptr: several of that name
};

}  // namespace wexlo
