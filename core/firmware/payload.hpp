#pragma once
/// The payload of an A/B over-the-air package (payload.bin): docs/formats/payload.md.

#include <memory>

#include "firmware/firmware.hpp"

namespace wexlo {

[[nodiscard]] bool looks_like_payload(View start);

/// Reads header and manifest. Errors: BadMagic, Truncated, OutOfRange (manifest larger than the
/// file or its limit), Corrupt (manifest), UnsafePath (a partition's name), BadValue, Unsupported
/// (version).
[[nodiscard]] Result<std::unique_ptr<Firmware>> open_payload(SourcePtr source);

}  // namespace wexlo
