#pragma once
/// What sources, and those who read them whole, have in common.

#include "base/digest.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

/// All that comes out of an open descriptor, e.g. standard input; waits for it, until a stop is
/// asked for. Errors: LimitExceeded (more than `limit` bytes), Interrupted, Io.
/// @param name  what errors call it
[[nodiscard]] Result<Bytes> read_descriptor(int descriptor, const std::string& name,
                                            std::uint64_t limit, const Context& context);

/// Errors: Truncated, with the source's name, the offset and both sizes, when [offset, offset +
/// count) is not inside.
[[nodiscard]] Status check_range(const Source& source, std::uint64_t offset, std::uint64_t count);

/// The digest of the first `size` bytes; progress is told in them. Errors: Interrupted, those of
/// reading.
[[nodiscard]] Result<Bytes> digest_of_start(const Source& source, std::uint64_t size,
                                            DigestKind kind, const Context& context);

}  // namespace wexlo
