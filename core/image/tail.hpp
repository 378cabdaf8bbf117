#pragma once
/// What stands behind an image's last section: docs/formats/wrappings.md.

#include <string>
#include <vector>

#include "base/bytes.hpp"

namespace wexlo {

enum class TailKind : std::uint8_t {
  EnforcingTrailer,
  OlderSignature,
  Zeros,
  Ones,  ///< bytes of 0xff
  Vbmeta,
  Footer,
  SealedBlock,
  Other,
};
/// As texts have it, e.g. "older boot signature".
[[nodiscard]] std::string_view tail_name(TailKind kind);

struct TailItem {
  TailKind kind = TailKind::Other;
  std::uint64_t offset = 0;  ///< from the tail's start
  std::uint64_t size = 0;    ///< bytes
};
/// In their order, without gaps.
[[nodiscard]] std::vector<TailItem> tail_items(View tail);

/// The older boot signature directly behind the sections: a DER sequence over the image.
[[nodiscard]] bool has_older_signature(View tail);

}  // namespace wexlo
