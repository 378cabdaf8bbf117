#pragma once
/// The record's page inside of report.html: it is put in behind the report, which stays as it was
/// made, byte for byte. A mark in front of it has its digest, and that of the record's last entry.

#include <string>
#include <string_view>

#include "base/source.hpp"

namespace wexlo {

struct SplitReport {
  std::string report;  ///< without the page: as the kit was made
  bool has_page = false;
  bool intact = true;  ///< the page is as it was put in
  std::string last;    ///< digest of the entry that it ends with
};
[[nodiscard]] SplitReport split_report(std::string_view html);

/// The report of a kit as it was made. @param split  gets what its page is. Errors: those of
/// reading.
[[nodiscard]] Result<SourcePtr> report_as_made(const Source& report, SplitReport& split);

/// @param html  with or without a page: one that is there is replaced
/// @param page  HTML, lines  @param last  digest of the record's last entry
[[nodiscard]] std::string with_page(std::string_view html, std::string_view page,
                                    const std::string& last);

}  // namespace wexlo
