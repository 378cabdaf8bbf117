#pragma once
/// What makes one run of bytes out of another: stretches copied from the source, and the bytes that
/// are new. Form: docs/formats/way-back.md.

#include <functional>

#include "base/bytes.hpp"

namespace wexlo {

[[nodiscard]] Bytes make_delta(View source, View target);

/// Takes what comes out, piece by piece; its failure ends the work.
using DeltaSink = std::function<Status(View piece)>;
/// @param most  bytes that may come out. Errors: Truncated, OutOfRange (a stretch outside the
/// source, more bytes than `most`), those of the sink.
[[nodiscard]] Status apply_delta(View source, View delta, std::uint64_t most,
                                 const DeltaSink& sink);
/// The same, in one piece.
[[nodiscard]] Result<Bytes> apply_delta(View source, View delta, std::uint64_t most);

/// A number in groups of seven bits, lowest first; the high bit says that more follow.
void put_varint(Bytes& out, std::uint64_t value);
/// Takes one from the front of `in`. Errors: Truncated, BadValue (more than 64 bits).
[[nodiscard]] Result<std::uint64_t> take_varint(View& in);

}  // namespace wexlo
