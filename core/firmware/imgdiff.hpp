#pragma once
/// Patches of older packages for images that hold compressed streams (IMGDIFF2): the streams are
/// inflated, patched, and deflated again with the settings that the patch names. Bytes:
/// docs/formats/patches.md.

#include "base/pool.hpp"
#include "firmware/bsdiff.hpp"

namespace wexlo {

[[nodiscard]] bool looks_like_imgdiff(View patch);

/// Either kind of patch that older packages carry. @param most  bytes that may come out
/// Errors: BadMagic, Truncated, Corrupt, Unsupported (another kind of chunk), LimitExceeded, and
/// those of reading and writing.
[[nodiscard]] Status apply_image_patch(View patch, const OldBytes& old, std::uint64_t most,
                                       const WriteBytes& write);

}  // namespace wexlo
