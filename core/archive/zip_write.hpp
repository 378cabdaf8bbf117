#pragma once
/// A zip with some members replaced, over libzip.

#include <map>

#include "archive/zip.hpp"

namespace wexlo {

/// What takes the place of a member: by its name as stored.
using ZipReplacements = std::map<std::string, SourcePtr>;

struct RewrittenZip {
  SourcePtr source;              ///< in an anonymous temporary file that goes with it
  bool signature_gone = false;   ///< a signature over the whole file stood in its comment
  bool signature_stale = false;  ///< members that are signed one by one were changed
};

/// Every other member keeps its packed bytes, its time and its place; a replaced one is packed as
/// the one before was. A comment that signs the whole file is left out: it would be a lie. The same
/// input gives the same bytes.
/// Errors: NotFound (no such member), Unsupported (a method that cannot be written), those of the
/// sources, NoSpace, Interrupted.
[[nodiscard]] Result<RewrittenZip> rewrite_zip(const SourcePtr& zip,
                                               const ZipReplacements& replacements,
                                               const Context& context);

}  // namespace wexlo
