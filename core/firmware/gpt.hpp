#pragma once
/// Dumps of a whole disk with a GUID partition table, sectors of 512 or 4096 bytes. Facts in
/// docs/formats/gpt.md.

#include "firmware/opening.hpp"

namespace wexlo {

/// The table's header stands in the second sector, or the first one is that of such a disk. @param
/// start  4104 bytes for large sectors
[[nodiscard]] bool looks_like_gpt(View start);

/// Where the primary table is bad the backup at the end is used, and a note says so. Partitions
/// that lie behind the dump's end are listed; reading them fails. Errors: Corrupt (neither copy is
/// good), BadValue.
[[nodiscard]] Result<FirmwarePtr> open_gpt(const SourcePtr& source, const Opening& opening);

}  // namespace wexlo
