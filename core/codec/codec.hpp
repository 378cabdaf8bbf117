#pragma once
/// Compressed streams behind one interface. One row a format in the table of codec.cpp; a new
/// format is one new file (a decoder, an encoder, what must be kept of a stock stream) and its row.

#include <memory>
#include <optional>
#include <string_view>

#include "base/bytes.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

enum class Compression { None, Gzip, Lz4Legacy, Xz, Bzip2 };

/// The format's spelling in JSON and parts.toml: "none", "gzip", "lz4-legacy", "xz", "bzip2".
[[nodiscard]] std::string_view compression_name(Compression kind);
[[nodiscard]] std::optional<Compression> compression_named(std::string_view name);

/// By the first bytes; nullopt when none is recognised. Never gives None: what is not compressed is
/// for the caller to know.
[[nodiscard]] std::optional<Compression> detect_compression(View start);

/// One compressed stream, pushed through in pieces.
class Decoder {
 public:
  struct Step {
    std::size_t consumed = 0, produced = 0;
    bool done = false;  ///< the stream ended; what follows `consumed` belongs to somebody else
  };
  virtual ~Decoder() = default;
  /// Takes from `in`, gives to `out`. A step that neither consumes nor produces wants more of one
  /// of the two. @param last  no input follows `in`. Errors: Corrupt, Truncated, LimitExceeded
  /// (the stream asks for more memory than the decoder may use).
  [[nodiscard]] virtual Result<Step> step(View in, MutableView out, bool last) = 0;
};

/// @param memory_limit  bytes the decoder's own dictionary may take
[[nodiscard]] std::unique_ptr<Decoder> make_decoder(Compression kind,
                                                    std::uint64_t memory_limit = 128u << 20);

struct Decoded {
  Bytes bytes;
  std::size_t consumed = 0;  ///< length of the stream; the rest of the input follows it
};
/// Decodes the one stream at the start of `in`. Errors: as Decoder::step, and LimitExceeded when
/// more than `limit` bytes would come out. Offsets count from the start of `in`.
[[nodiscard]] Result<Decoded> decode(Compression kind, View in, std::uint64_t limit);

/// How a stream is framed and how hard the encoder tries: what of a stock stream has to be carried
/// over to one that takes its place.
struct Framing {
  int level = -1;             ///< the library's level; -1: the densest sensible one
  Bytes header{};             ///< gzip: the member header as it stood (time, name, system byte)
  bool size_trailer = false;  ///< lz4 legacy: u32 uncompressed size after the last block
  std::uint32_t check = 1;    ///< xz: id of the integrity check (1 = CRC32, what a kernel decodes)
};
/// Reads the framing of a stock stream. @param encoded  exactly the stream
[[nodiscard]] Framing framing_of(Compression kind, View encoded, std::uint64_t decoded_size);

/// Compresses `in` as one stream. The same input and framing give the same bytes.
/// Errors: Unsupported, LimitExceeded (memory).
[[nodiscard]] Result<Bytes> encode(Compression kind, View in, const Framing& framing = {});

}  // namespace wexlo
