#pragma once
/// Reading sources and descriptors from front to back.

#include "base/digest.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

/// All that comes out of an open descriptor, e.g. standard input; waits for it, until a stop is
/// asked for. Errors: LimitExceeded (more than `limit` bytes), Interrupted, Io.
/// @param name  what errors call it
[[nodiscard]] Result<Bytes> read_descriptor(int descriptor, const std::string& name,
                                            std::uint64_t limit, const Context& context);

/// The digest of the first `size` bytes; progress is told in them. Errors: Interrupted, those of
/// reading.
[[nodiscard]] Result<Bytes> digest_of_start(const Source& source, std::uint64_t size,
                                            DigestKind kind, const Context& context);

}  // namespace wexlo
