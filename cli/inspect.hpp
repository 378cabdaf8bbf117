#pragma once
/// The two forms of what inspect found.

#include <string>

#include "inspect/inspect.hpp"
#include "reply.hpp"

namespace wexlo::cli {

[[nodiscard]] Json inspection_json(const Inspection& item);
/// For people; ends with a line end.
[[nodiscard]] std::string inspection_text(const Inspection& item, const Session& session);
/// What somebody has to know: permissive words, parts that do not read, joins a kernel refuses.
/// A key file's text: PEM, which a public key blob is turned into. Errors: those of reading.
[[nodiscard]] Result<std::string> read_key_file(const std::string& path);

void add_findings(const Inspection& item, Reply& reply);

}  // namespace wexlo::cli
