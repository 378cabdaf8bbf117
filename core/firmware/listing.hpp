#pragma once
/// The text and XML files that say which file belongs to which partition: names, order, digests,
/// places. Their dialects differ by their makers' taste; what is read is in
/// docs/formats/listing.md.

#include <functional>

#include "firmware/firmware.hpp"

namespace wexlo {

struct ListingRow {
  std::string partition;                ///< empty: the listing speaks of a file only
  std::string file;                     ///< as it is spelled there, with '/' for '\\'
  std::vector<Promise> promises;        ///< of the file as it is stored
  std::optional<std::uint64_t> start;   ///< bytes
  std::optional<std::uint64_t> length;  ///< bytes
  bool in_file = false;                 ///< `start` counts from the file's start, not the phone's
};

struct Listing {
  std::vector<ListingRow> rows;
  BuildFacts build;
};

/// By its name: could this be one?
[[nodiscard]] bool may_be_listing(std::string_view path);

/// Reads what it can; a file that is no listing gives no rows. @param is_file  whether a word is
/// the name of a file of the package
[[nodiscard]] Listing read_listing(std::string_view text, std::string_view path,
                                   const std::function<bool(std::string_view)>& is_file);

}  // namespace wexlo
