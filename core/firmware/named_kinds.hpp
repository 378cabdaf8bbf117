#pragma once
/// What Wexlo knows by its first bytes and does not open: makers' containers, encrypted or of a
/// form that is not read, and files that are no firmware at all. One table:
/// docs/formats/packages.md has it for users. It is asked before an image is looked for inside a
/// file.

#include <optional>

#include "archive/bundle.hpp"

namespace wexlo {

enum class NamedSort : std::uint8_t {
  Container,    ///< images are in it, in a form that is not read
  Encrypted,    ///< images are in it, and a key is needed
  NotFirmware,  ///< a picture, a page, a program, …
};

struct NamedKind {
  std::string_view kind;  ///< "tablet-update", "jpeg", …: for layers and JSON
  NamedSort sort{};
  std::string_view what;     ///< "an encrypted zip": for messages
  std::string_view instead;  ///< what to do; empty: what fits all of its sort
};

/// @param start  the first bytes: 4096 tell everything
[[nodiscard]] const NamedKind* named_by_start(View start);
/// Also those whose mark stands at the end. Errors: Io.
[[nodiscard]] Result<const NamedKind*> named_kind(const Source& source, View start);

/// An app or an office document is a zip: its members tell. nullptr: neither.
[[nodiscard]] const NamedKind* named_bundle(const Bundle& bundle);

/// The error for a file of that kind: Unsupported for containers, BadMagic for what is no firmware.
[[nodiscard]] Error named_error(const NamedKind& kind, const std::string& file);

}  // namespace wexlo
