#pragma once
/// The record as a page of the kit's report.

#include "kit/folder/record.hpp"
#include "text/json.hpp"

namespace wexlo {

/// HTML to be put into a report, newest entry first.
[[nodiscard]] std::string record_page(const Record& record);

/// A row, for JSON.
[[nodiscard]] Json rows_json(const std::vector<RecordRow>& rows);

}  // namespace wexlo
