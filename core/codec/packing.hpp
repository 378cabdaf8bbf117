#pragma once
/// Packing a source of any size as one stream.

#include "codec/codec.hpp"

namespace wexlo {

/// The stream lies in an anonymous temporary file that goes with the source. The same input and
/// framing give the same bytes. Errors: those of make_encoder and reading, NoSpace, Interrupted.
[[nodiscard]] Result<SourcePtr> pack_source(const Source& source, Compression kind,
                                            const Framing& framing, const std::string& name,
                                            const Context& context);

/// Frames as download-mode packages have them: blocks of 4 MiB, content size and checksum given.
[[nodiscard]] Framing download_mode_framing();

}  // namespace wexlo
