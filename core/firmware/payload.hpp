#pragma once
/// The payload of an over-the-air update, versions 1 and 2: docs/formats/payload.md.

#include "firmware/opening.hpp"

namespace wexlo {

/// A fact: payload.bin begins with these bytes.
[[nodiscard]] bool looks_like_payload(View start);

/// Reads header and manifest, and checks them; blobs are read when a partition is. With
/// `opening.key` the metadata's signature is verified first.
/// Errors: BadMagic, Unsupported (another version), Truncated, LimitExceeded, Corrupt, BadValue,
/// UnsafePath; with a key also BadValue (a key that does not read) and BadSignature.
[[nodiscard]] Result<FirmwarePtr> open_payload(const SourcePtr& source, const Opening& opening);

}  // namespace wexlo
