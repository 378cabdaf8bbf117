#include "ramdisk/mount_files.hpp"

#include "ramdisk/textfiles.hpp"

namespace wexlo {

// Gathered in one pass: looking for each by its name would take the square of their number.
std::map<std::string, EntryAt> mount_files(const Ramdisk& ramdisk) {
  std::map<std::string, EntryAt> out;
  for (std::size_t s = 0; s < ramdisk.segments.size(); ++s) {
    const auto& entries = ramdisk.segments[s].archive.entries;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      const std::string place = newc::place_of(entries[i].name());
      if (entries[i].is_trailer() || !is_fstab_name(place)) continue;
      if (entries[i].type() == newc::Regular)
        out[place] = {s, i};
      else
        out.erase(place);
    }
  }
  return out;
}

}  // namespace wexlo
