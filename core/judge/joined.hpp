#pragma once
/// The ramdisks of a normal start, as a loader joins and a kernel unpacks them.

#include "judge/subject.hpp"

namespace wexlo {

struct Joined {
  std::vector<const Ramdisk*> parts;  ///< in the order a kernel unpacks them
  std::string last_partition;
  bool has_generic = false;  ///< boot's or init_boot's is here; what a vendor's holds may not be
  bool whole = false;        ///< all that a loader would join is here
};

/// @param set  outlives what is returned
[[nodiscard]] Joined join_ramdisks(const Subjects& set);

struct FoundEntry {
  const Ramdisk* ramdisk;
  EntryAt at;
  const newc::Entry* entry;
};
/// An entry of what is joined: later ramdisks have their way.
[[nodiscard]] std::optional<FoundEntry> find_joined(const Joined& joined, std::string_view place);

}  // namespace wexlo
