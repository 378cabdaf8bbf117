#pragma once
/// The record container: named images one after the other, each with a CRC-16 a block. Bytes and
/// source of the facts: docs/formats/record-container.md.

#include "firmware/opening.hpp"

namespace wexlo {

[[nodiscard]] bool looks_like_records(View start);

/// Records are windows; their CRCs are checked when they are read whole.
/// Errors: Truncated (a record lies beyond the end), Corrupt (no record where one is due),
/// BadValue (sizes that contradict each other), LimitExceeded (more than 4096 records), and those
/// of open_package.
[[nodiscard]] Result<FirmwarePtr> open_records(const SourcePtr& source, const Opening& opening);

}  // namespace wexlo
