#pragma once
/// Which setting of the usual libraries made a stock stream, so that what is packed again comes out
/// as the maker would have packed it: docs/decisions/0007-settings-search.md.

#include <string>

#include "codec/codec.hpp"

namespace wexlo {

/// Framing::variant of xz and lzma: the densest that is known for machine code of four bytes a
/// word. No maker's setting.
inline constexpr int kLiteralsByPlace = 2;

/// For a file that is unpacked where memory is dear: the xz preset whose dictionary takes all of
/// it, and no more, for whoever unpacks it has to hold that. @param size  bytes of the file
[[nodiscard]] Framing xz_framing_for(std::uint64_t size);

enum class Proof {
  None,   ///< no setting gives the stock bytes: the densest sensible one is used
  Start,  ///< the stock stream's start comes out alike; the rest was not tried
  Whole,  ///< the whole stock stream comes out, byte for byte
};
[[nodiscard]] std::string_view proof_name(Proof proof);  ///< "none", "start", "whole"

struct Setting {
  Framing framing;
  Proof proof = Proof::None;
};

/// How far a search goes to prove what it found.
enum class Effort { Quick, Thorough };

/// Tries settings on the start of the content, in parallel, on at most 1 MiB each. Those that fit
/// are tried on all of it when that is quick (a few MiB; Thorough: 16 MiB). Of several that fit,
/// the first in a fixed order is taken.
/// @param content  what `encoded` decodes to  @param framing  of `encoded`
[[nodiscard]] Setting find_setting(Compression kind, View content, View encoded,
                                   const Framing& framing, const Context& context,
                                   Effort effort = Effort::Quick);

/// `level 9, memory 8`, `preset 6 extreme`; "densest" for level -1.
[[nodiscard]] std::string setting_text(Compression kind, const Framing& framing);
/// Reads that form into the framing. Errors: BadValue.
[[nodiscard]] Status set_setting(Framing& framing, std::string_view text);

}  // namespace wexlo
