#pragma once
/// The content of a compressed source, as a source of its own. Nothing is unpacked before it is
/// read, and nothing is kept but a few recent chunks: reading forward costs one decoding, whatever
/// the size. Going back starts from the nearest kept state of the decoder (gzip, deflate), else
/// from the beginning; who goes back often gets an anonymous temporary file, as large as the
/// furthest place that was read.

#include <optional>

#include "codec/codec.hpp"

namespace wexlo {

struct Packed {
  SourcePtr source;
  Compression kind{};
  std::optional<std::uint64_t> size{};  ///< of the content, where a container promises one
  std::optional<std::uint32_t> crc{};   ///< CRC-32 of the content, likewise
  bool joined = true;                   ///< streams that follow the first belong to the content too
  std::string name{};                   ///< what errors call it; empty: as the source
};

/// The size comes from the container, or the format itself; where neither has it the content is
/// decoded once to count it. A read that reaches the end checks what the format and the container
/// promise. Errors: Corrupt, Truncated, LimitExceeded (the decoder's own memory; more content than
/// `context` allows), Interrupted; of read_at besides: DigestMismatch (CRC-32).
[[nodiscard]] Result<SourcePtr> open_unpacked(Packed packed, const Context& context);

/// What the decoder of the stream at the start of `in` will take, in bytes: its dictionary.
/// @param in  the stream's first bytes, 64 are enough
[[nodiscard]] std::uint64_t decoder_memory(Compression kind, View in);

}  // namespace wexlo
