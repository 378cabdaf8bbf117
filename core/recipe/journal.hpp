#pragma once
/// The journal: what a patched image carries in its ramdisk, at /wexlo/journal.toml, so that a
/// patch is known again. Kept stock files stand beside it under /wexlo/stock/.

#include <optional>
#include <string>
#include <vector>

#include "ramdisk/ramdisk.hpp"

namespace wexlo {

inline constexpr std::string_view kJournalPlace = "wexlo/journal.toml";
inline constexpr std::string_view kStockFolder = "wexlo/stock/";
inline constexpr std::string_view kWayBackPlace = "wexlo/way-back";

struct JournalEdit {
  std::string recipe, kind, summary;
  std::string digest;  ///< Edit::digest
};

struct Journal {
  std::string stock_sha256;          ///< of the whole stock image
  std::string stock_sha1;            ///< empty: no recipe asked for it
  std::uint64_t stock_size = 0;      ///< bytes
  std::vector<JournalEdit> edits;    ///< in the order they were done
  std::string way_back;              ///< why the image does not carry one; empty: it does
  std::vector<std::string> shows;    ///< texts of a log that tell that what was put in runs
  std::vector<std::string> foreign;  ///< signs of another tool that it was patched on top of
  bool ramdisk_made = false;         ///< the stock image has no ramdisk

  [[nodiscard]] bool has(std::string_view digest) const;
};

/// nullopt when the ramdisk carries none. Errors: BadValue, Unsupported (another format).
[[nodiscard]] Result<std::optional<Journal>> read_journal(const Ramdisk& ramdisk);
[[nodiscard]] std::string format_journal(const Journal& journal);

}  // namespace wexlo
