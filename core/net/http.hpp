#pragma once
/// A file on a web server as a source: only the ranges that are read are fetched.

#include "base/pool.hpp"
#include "base/source.hpp"

namespace wexlo {

[[nodiscard]] bool is_url(std::string_view text);  ///< begins with http:// or https://

/// Asks the server for the file's size and whether it gives ranges. A read that breaks off is
/// resumed where it stopped, a few times. Errors: NotFound, Permission (401, 403), Unsupported (the
/// server gives no ranges), Io (no connection, an error of the server), Corrupt (the file changed
/// meanwhile), Interrupted.
[[nodiscard]] Result<SourcePtr> open_url(const std::string& url, const Context& context);

}  // namespace wexlo
