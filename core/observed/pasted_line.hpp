#pragma once
/// A line as people paste it: what an editor, a chat or a shell put in front comes off.

#include <string>
#include <string_view>
#include <vector>

namespace wexlo {

/// Without control sequences of a terminal.
[[nodiscard]] std::string without_colors(std::string_view line);

/// The line as it may be meant, the whole first: each further one has one thing less in front (a
/// number and what parts it, quote marks, a name and time of a chat). Views into `line`.
[[nodiscard]] std::vector<std::string_view> readings_of(std::string_view line);

/// A command behind a shell's prompt ("gnomon:/ $ getenforce", "C:\> adb …"); empty: it is none.
[[nodiscard]] std::string_view typed_command(std::string_view line);

}  // namespace wexlo
