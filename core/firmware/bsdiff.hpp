#pragma once
/// Binary patches BSDIFF40 and BSDF2: docs/formats/patches.md.

#include <functional>

#include "base/bytes.hpp"

namespace wexlo {

/// The older bytes, which may be anywhere.
struct OldBytes {
  std::uint64_t size = 0;
  std::function<Status(std::uint64_t offset, MutableView out)> read;
};
/// Those that are in memory; they live as long.
[[nodiscard]] OldBytes old_bytes(View bytes);
using WriteBytes = std::function<Status(View bytes)>;

/// Puts what is given behind `out`, which lives as long.
[[nodiscard]] WriteBytes write_behind(Bytes& out);

[[nodiscard]] bool looks_like_bsdiff(View patch);

/// Gives the new bytes in order; memory does not depend on their size.
/// @param most  bytes that may come out
/// Errors: BadMagic, Truncated, Corrupt, Unsupported (a compressor that is not known),
/// LimitExceeded (more than `most`), and those of reading and writing.
[[nodiscard]] Status apply_bsdiff(View patch, const OldBytes& old, std::uint64_t most,
                                  const WriteBytes& write);

}  // namespace wexlo
