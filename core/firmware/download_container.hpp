#pragma once
/// The packed download container: a table of files in UTF-16, then their bytes. Bytes and source of
/// the facts: docs/formats/download-container.md.

#include "firmware/opening.hpp"

namespace wexlo {

[[nodiscard]] bool looks_like_download_container(View start);

/// Files are windows. An XML among them says which partition each is for; without it a file's name
/// does. Errors: Truncated (table or a file lies beyond the end), BadValue (row sizes, the total
/// size), LimitExceeded (more than 4096 files), and those of open_package.
[[nodiscard]] Result<FirmwarePtr> open_download_container(const SourcePtr& source,
                                                          const Opening& opening);

}  // namespace wexlo
