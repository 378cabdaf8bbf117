#pragma once
/// The header fields that a person may edit, as text that goes into parts.toml and comes back.

#include <string>
#include <vector>

#include "image/layout.hpp"

namespace wexlo::parts {

struct FieldText {
  std::string name;
  std::string value;  ///< as it stands in parts.toml: a number, or text (without quotes)
  bool number = false;
  std::size_t line = 0;  ///< in parts.toml, from 1; 0: not read from there
};

/// All but sizes, offsets, magics and digests, which follow from the parts. os_version is given as
/// people write it, with `patch_level` beside it; a split command line is joined.
[[nodiscard]] std::vector<FieldText> editable_fields(const Image& image);
[[nodiscard]] std::string format_fields(const std::vector<FieldText>& fields);

/// Writes one field from its text. Errors: BadValue, OutOfRange, Unsupported (no such field).
[[nodiscard]] Status set_field(Image& image, const FieldText& field);

}  // namespace wexlo::parts
