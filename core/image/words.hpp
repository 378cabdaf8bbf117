#pragma once
/// Words of a kernel command line, and entries of a bootconfig, edited one by one. What is not
/// concerned keeps its bytes.

#include <string>
#include <string_view>
#include <vector>

namespace wexlo::words {

/// The words; a blank inside double quotes does not part them, as the kernel reads them.
[[nodiscard]] std::vector<std::string> split(std::string_view cmdline);

/// Sets `name=value` in the first word of that name and drops further ones; a new word goes to the
/// end. An empty value makes the bare word `name`. The kernel takes `-` and `_` in names alike.
[[nodiscard]] std::string set(std::string_view cmdline, std::string_view name,
                              std::string_view value);
/// Adds a word unless it is there already, exactly so.
[[nodiscard]] std::string add(std::string_view cmdline, std::string_view word);
/// Removes every word `word`, and every `word=…` where `word` holds no `=`.
[[nodiscard]] std::string remove(std::string_view cmdline, std::string_view word);

/// Sets `key = value` in a bootconfig: the line (or the part of it between `;`) that sets the key
/// is changed, else a line is added. A value that needs them gets quotes.
[[nodiscard]] std::string set_bootconfig(std::string_view text, std::string_view key,
                                         std::string_view value);
/// Removes what sets the key.
[[nodiscard]] std::string remove_bootconfig(std::string_view text, std::string_view key);

}  // namespace wexlo::words
