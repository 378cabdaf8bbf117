#pragma once
/// Images that come in numbered files: cut again into as many as there were.

#include "firmware/insert_wish.hpp"

namespace wexlo {

/// @param pieces  the set's files as they are stored, in order  @param direct  the one wish is for
/// the whole image, not for a logical partition in it
/// The result has as many files. Errors: Unsupported (pieces that are packed one by one),
/// DoesNotFit, those of reading.
[[nodiscard]] Result<std::vector<SourcePtr>> insert_into_set(const std::vector<SourcePtr>& pieces,
                                                             const std::vector<Wish>& wishes,
                                                             bool direct,
                                                             const InsertOptions& options);

}  // namespace wexlo
