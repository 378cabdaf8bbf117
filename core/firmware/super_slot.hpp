#pragma once
/// The tables of one metadata slot of super, taken apart for rewriting.

#include <fmt/format.h>

#include <optional>
#include <string>
#include <vector>

#include "firmware/super_tables.hpp"

namespace wexlo::super_tables {

struct Extent {
  std::uint64_t begin = 0, count = 0;  ///< sectors
};

/// The tables of one metadata slot, taken apart.
struct SlotTables {
  std::uint32_t slot = 0;
  Metadata metadata;

  [[nodiscard]] std::string name_of(std::uint32_t row) const {
    const View entry = metadata.row(metadata.table(Partitions), row);
    std::string name(until_nul(entry.first(kNameSize)));
    const bool suffixed = (le<std::uint32_t>(entry, 36) & SlotSuffixed) != 0;
    return suffixed ? name + slot_name(slot) : name;
  }
  [[nodiscard]] std::optional<std::uint32_t> find(std::string_view name) const {
    for (std::uint32_t i = 0; i < metadata.table(Partitions).count; ++i)
      if (name_of(i) == name) return i;
    return std::nullopt;
  }
  [[nodiscard]] View partition(std::uint32_t row) const {
    return metadata.row(metadata.table(Partitions), row);
  }
  /// Rows of a partition in the table of extents. Errors: Corrupt.
  [[nodiscard]] Result<std::vector<View>> extents(std::uint32_t row) const {
    const std::uint64_t first = le<std::uint32_t>(partition(row), 40),
                        count = le<std::uint32_t>(partition(row), 44);
    const auto table = metadata.table(Extents);
    if (first > table.count || count > table.count - first)
      return fail(wrong("a partition names extents that are not there", metadata.at,
                        fmt::format("below {}", table.count),
                        fmt::format("{} from {}", count, first)));
    std::vector<View> out;
    for (std::uint64_t i = first; i < first + count; ++i)
      out.push_back(metadata.row(table, static_cast<std::uint32_t>(i)));
    return out;
  }
};

}  // namespace wexlo::super_tables
