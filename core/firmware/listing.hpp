#pragma once
/// The text and XML files that say which file belongs to which partition: names, order, digests,
/// places. Their dialects differ by their makers' taste; what is read is in
/// docs/formats/listing.md.

#include <functional>

#include "firmware/firmware.hpp"
#include "firmware/listing_row.hpp"

namespace wexlo {

struct Listing {
  std::vector<ListingRow> rows;
  BuildFacts build;
  std::size_t commands = 0;  ///< rows that a script's commands gave
};

/// By its name: could this be one?
[[nodiscard]] bool may_be_listing(std::string_view path);

/// Reads what it can; a file that is no listing gives no rows. A row whose file is not in the
/// package is left out, unless it is a piece of a partition by its place.
/// @param is_file  whether a word is the name of a file of the package
[[nodiscard]] Listing read_listing(std::string_view text, std::string_view path,
                                   const std::function<bool(std::string_view)>& is_file);

}  // namespace wexlo
