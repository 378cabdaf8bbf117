#pragma once
/// Two files that should be the same bytes: where they first differ, and in which part.

#include <optional>

#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

struct FileDifference {
  std::uint64_t offset = 0;     ///< bytes from the start, of the first that differs
  std::uint64_t differing = 0;  ///< bytes that differ; those of one alone are among them
  std::uint64_t size_a = 0, size_b = 0;
  std::string part;  ///< "kernel", "line 4, in [build]", a tar's member; empty: not known
  std::string a, b;  ///< what stands there: the line of a text, else up to eight bytes in hex
};

/// nullopt: they are the same.
/// @param name  the file's, whose ending says how it is looked at: an image, a tar, a text
/// @param b     names the part, where a does not read. Errors: those of reading, Interrupted.
[[nodiscard]] Result<std::optional<FileDifference>> file_difference(const SourcePtr& a,
                                                                    const SourcePtr& b,
                                                                    std::string_view name,
                                                                    const Context& context);

}  // namespace wexlo
