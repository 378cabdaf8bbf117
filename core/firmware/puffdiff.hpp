#pragma once
/// Deflate-aware patches (`PUF1`): both sides are spelled out as tokens where they hold deflate
/// streams, and a binary patch leads from one to the other. docs/formats/patches.md.

#include "firmware/bsdiff.hpp"

namespace wexlo {

/// @param old   all of the older bytes
/// @param most  bytes that may come out
/// Errors: BadMagic, Truncated, Corrupt, Unsupported (a patch of another kind inside),
/// LimitExceeded, and those of writing.
[[nodiscard]] Status apply_puffdiff(View patch, View old, std::uint64_t most,
                                    const WriteBytes& write);

}  // namespace wexlo
