#include "codec/packing.hpp"

namespace wexlo {

namespace {

constexpr std::size_t kPiece = 1u << 20;
constexpr std::uint64_t kMaxHeld = 1u << 30;

/// A format whose encoder wants all of it at once.
Result<SourcePtr> pack_whole(const Source& source, Compression kind, const Framing& framing,
                             const std::string& name, const Context& context) {
  WEXLO_TRY(const Blob bytes, read_all(source, kMaxHeld));
  WEXLO_TRY(Bytes packed, encode(kind, bytes.view(), framing, context));
  return open_memory(Blob(std::move(packed)), name);
}

}  // namespace

Result<SourcePtr> pack_source(const Source& source, Compression kind, const Framing& framing,
                              const std::string& name, const Context& context) {
  if (kind == Compression::Lz4Legacy) return pack_whole(source, kind, framing, name, context);
  WEXLO_TRY(const auto encoder, make_encoder(kind, framing, source.size()));
  WEXLO_TRY(const auto scratch, Scratch::create());
  Bytes chunk, out(kPiece);
  View in;
  std::uint64_t read = 0, written = 0;
  for (bool done = false; !done;) {
    WEXLO_CHECK(check_stop(context));
    if (in.empty() && read < source.size()) {
      WEXLO_TRY(chunk, read_some(source, read, kPiece));
      read += chunk.size();
      in = chunk;
    }
    WEXLO_TRY(const CodecStep step, encoder->step(in, out, read == source.size()));
    WEXLO_CHECK(scratch->write_at(written, View(out).first(step.produced)));
    written += step.produced;
    in = in.subspan(step.consumed);
    done = step.done;
  }
  return open_scratch(scratch, written, name);
}

Framing download_mode_framing() {
  static constexpr unsigned char kHeader[] = {4, 0x22, 0x4d, 0x18, 0x6c, 0x60, 0};
  return {.level = 1, .header = to_bytes(std::as_bytes(std::span(kHeader)))};
}

}  // namespace wexlo
