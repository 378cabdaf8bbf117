#pragma once
/// Images whose stored files (packed, sparse, in pieces) have digests of their own in a listing.

#include "firmware/content.hpp"

namespace wexlo {

struct StoredFile {
  SourcePtr source;  ///< its own check is held to, too
  std::vector<Promise> promises;
};

/// The stored files are checked before the image is read.
[[nodiscard]] ContentPtr listed_content(ContentPtr inner, std::vector<StoredFile> stored);

}  // namespace wexlo
