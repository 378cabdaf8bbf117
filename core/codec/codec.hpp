#pragma once
/// Compressed streams behind one interface. One row a format in the table of registry.cpp; a new
/// format is one new file (a decoder, an encoder, what must be kept of a stock stream) and its row.

#include <memory>
#include <optional>
#include <string_view>
#include <vector>

#include "base/bytes.hpp"
#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

/// Zlib stands for the bare zlib format (RFC 1950), Deflate for the stream inside it (RFC 1951).
/// These two and Brotli are never recognised by their first bytes; Deflate and Brotli are only
/// read.
enum class Compression {
  None,
  Gzip,
  Lz4Legacy,
  Lz4Frame,
  Xz,
  Lzma,
  Bzip2,
  Zstd,
  Lzo,  ///< a file as lzop writes it
  Zlib,
  Deflate,
  Brotli
};

/// The format's spelling in JSON and parts.toml: "none", "gzip", "lz4-legacy", "lz4-frame", "xz",
/// "lzma", "bzip2", "zstd", "lzo", "zlib", "deflate", "brotli".
[[nodiscard]] std::string_view compression_name(Compression kind);
[[nodiscard]] std::optional<Compression> compression_named(std::string_view name);

/// By the first bytes; nullopt when none is recognised. Never gives None: what is not compressed is
/// for the caller to know. Skippable frames (zstd, lz4) in front are passed over.
[[nodiscard]] std::optional<Compression> detect_compression(View start);

/// Length of the skippable frame (`50` to `5F`, `2A 4D 18`, u32 size, that many bytes) at the
/// start, its head included; nullopt: there is none. Parallel packers put one before each frame. It
/// may reach beyond `start`.
[[nodiscard]] std::optional<std::uint64_t> skippable_frame(View start);

/// What one step of a decoder or encoder did.
struct CodecStep {
  std::size_t consumed = 0, produced = 0;
  bool done = false;  ///< the stream ended; what follows `consumed` belongs to somebody else
  /// With `done`: bytes taken in steps before this one that turned out not to be the stream's. They
  /// stand right before this step's input.
  std::size_t returned = 0;
};

/// One compressed stream, pushed through in pieces.
class Decoder {
 public:
  using Step = CodecStep;
  virtual ~Decoder() = default;
  /// Takes from `in`, gives to `out`. A step that neither consumes nor produces wants more of one
  /// of the two. @param last  no input follows `in`. Errors: Corrupt, Truncated, LimitExceeded
  /// (the stream asks for more memory than the decoder may use).
  [[nodiscard]] virtual Result<Step> step(View in, MutableView out, bool last) = 0;
  /// A copy that goes on from the same place; nullptr where the library cannot make one.
  [[nodiscard]] virtual std::unique_ptr<Decoder> clone() const { return nullptr; }
};

/// The other way round. What it gives does not depend on how the input is cut into steps.
class Encoder {
 public:
  using Step = CodecStep;
  virtual ~Encoder() = default;
  /// Errors: LimitExceeded (memory), Corrupt (the library refused).
  [[nodiscard]] virtual Result<Step> step(View in, MutableView out, bool last) = 0;
};

/// @param memory_limit  bytes the decoder's own dictionary may take
[[nodiscard]] std::unique_ptr<Decoder> make_decoder(Compression kind,
                                                    std::uint64_t memory_limit = 192u << 20);

struct Decoded {
  Blob bytes;
  std::size_t consumed = 0;  ///< length of the stream; the rest of the input follows it
};
/// How much may come out of a stream.
struct DecodeLimit {
  std::uint64_t bytes = 512u << 20;
  /// Above this many bytes the output may be at most `ratio` times the input: a bomb is refused
  /// long before the absolute bound. 0 switches the ratio off.
  std::uint64_t ratio_from = 64u << 20;
  std::uint64_t ratio = 300;
  /// What is decoded counts against this as long as anybody holds it; nullptr: it does not.
  HeldBytesPtr held{};
};
[[nodiscard]] DecodeLimit decode_limit(const Context& context);
/// Decodes the one stream at the start of `in`. Errors: as Decoder::step, and LimitExceeded when
/// more would come out than `limit` allows. Offsets count from the start of `in`.
[[nodiscard]] Result<Decoded> decode(Compression kind, View in, const DecodeLimit& limit = {});

/// How a stream is framed and how hard the encoder tries: what of a stock stream has to be carried
/// over to one that takes its place.
struct Framing {
  int level = -1;    ///< the library's level; -1: the densest sensible one
  int variant = -1;  ///< a second knob, where a library has one: see find_setting
  /// The stream's own header as it stood (gzip: time and name; xz, lzma, zstd, lz4 frame:
  /// dictionary, checks, sizes given or not); empty: what a kernel takes.
  Bytes header{};
  bool size_trailer = false;  ///< lz4 legacy: u32 uncompressed size after the last block
};
/// Reads the framing of a stock stream. @param encoded  exactly the stream
[[nodiscard]] Framing framing_of(Compression kind, View encoded, std::uint64_t decoded_size);

/// @param size  bytes that will be given in all: some formats store it first. Errors: Unsupported
/// (a format that is only read), LimitExceeded.
[[nodiscard]] Result<std::unique_ptr<Encoder>> make_encoder(Compression kind,
                                                            const Framing& framing,
                                                            std::uint64_t size);

/// A stream that the new one takes the place of: blocks whose content did not change keep their
/// bytes, where a format has independent blocks.
struct StockStream {
  View encoded, decoded;
};

/// Compresses `in` as one stream. A large gzip member that takes the place of a stock one is packed
/// in pieces, in parallel: a decoder sees no difference, but for the exact bytes that the library
/// gives in one go leave `stock` empty. The same input and framing give the same bytes, whatever
/// the number of jobs. Errors: LimitExceeded (memory), Interrupted.
[[nodiscard]] Result<Bytes> encode(Compression kind, View in, const Framing& framing = {},
                                   const Context& context = {}, const StockStream& stock = {});

}  // namespace wexlo
