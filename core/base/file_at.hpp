#pragma once
/// Bytes of an open file at an offset: all of them, however often the system asks to go on.

#include <string_view>

#include "base/bytes.hpp"

namespace wexlo {

/// @param file  as errors name it. Errors: Io, NoSpace.
[[nodiscard]] Status write_file_at(int fd, std::uint64_t offset, View bytes, std::string_view file);

/// As many as there are up to the file's end. @return how many. Errors: Io.
[[nodiscard]] Result<std::size_t> read_file_at(int fd, std::uint64_t offset, MutableView out,
                                               std::string_view file);
/// The same where the file has to have them: an end before is an error, too.
/// @param doing  "cannot read", as the error begins
[[nodiscard]] Status read_whole_at(int fd, std::uint64_t offset, MutableView out,
                                   std::string_view file, std::string_view doing = "cannot read");

}  // namespace wexlo
