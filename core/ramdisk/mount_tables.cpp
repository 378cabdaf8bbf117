#include "ramdisk/mount_tables.hpp"

#include <algorithm>
#include <iterator>

namespace wexlo {

std::vector<FstabRow> mount_rows(const Ramdisk& ramdisk) {
  std::vector<FstabRow> out;
  for (std::size_t s = 0; s < ramdisk.segments.size(); ++s) {
    const auto& entries = ramdisk.segments[s].archive.entries;
    for (std::size_t i = 0; i < entries.size(); ++i) {
      if (!is_fstab_name(newc::place_of(entries[i].name()))) continue;
      const Blob text = content_of(ramdisk, {s, i});
      std::ranges::move(fstab_rows(as_text(text.view())), std::back_inserter(out));
    }
  }
  return out;
}

}  // namespace wexlo
