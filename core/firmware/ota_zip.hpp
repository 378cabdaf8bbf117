#pragma once
/// An over-the-air package: a zip with payload.bin stored in it, and the build's metadata.

#include "archive/zip.hpp"
#include "firmware/firmware.hpp"

namespace wexlo {

/// Errors: those of ZipArchive::open and open_payload; Unsupported (a zip without payload.bin).
[[nodiscard]] Result<std::unique_ptr<Firmware>> open_ota_zip(SourcePtr source);

}  // namespace wexlo
