#pragma once
/// What the names of a download-mode set say: `WORD_BUILD_….tar.md5`. Bytes and source of the
/// facts: docs/formats/packages.md.

#include <optional>
#include <string>
#include <string_view>

namespace wexlo {

struct BuildName {
  std::string word;     ///< what the part is, e.g. "AP"
  std::string build;    ///< as it is written
  std::string model;    ///< the build without its last eight characters
  unsigned binary = 0;  ///< 0 to 9, then A = 10 …: phones refuse a lower one than they have
};
/// @param file  the name of a file; a path is cut to it. nullopt: it is of another form
[[nodiscard]] std::optional<BuildName> read_build_name(std::string_view file);

/// The binary number of a build or of a bootloader's version, its fifth character from the end.
/// nullopt: it is of another form.
[[nodiscard]] std::optional<unsigned> binary_number(std::string_view build);

}  // namespace wexlo
