#pragma once
/// What one row of a listing says.

#include <optional>
#include <string>
#include <vector>

#include "firmware/listing_words.hpp"

namespace wexlo {

/// Where a sector-addressed listing writes a file, or a part of it.
struct SectorPlace {
  listing::Sector first;
  std::uint32_t sector_size = 512;         ///< bytes
  std::optional<std::uint64_t> sectors{};  ///< at most so many; nullopt: the whole file
  std::uint64_t file_offset = 0;           ///< bytes
};

struct ListingRow {
  std::string partition;            ///< empty: the listing speaks of a file only
  std::string file;                 ///< as it is spelled there, with '/' for '\\'
  std::vector<Promise> promises{};  ///< of the file as it is stored
  /// Bytes, of the phone's storage or in the file.
  std::optional<std::uint64_t> start{}, length{};
  std::optional<SectorPlace> place{};
};

}  // namespace wexlo
