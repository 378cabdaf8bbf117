#pragma once
/// Replacing the files of a bundle that hold certain partitions.

#include <functional>
#include <map>

#include "archive/bundle.hpp"
#include "firmware/insert_wish.hpp"

namespace wexlo {

/// How one file of a bundle gets its new content. `direct`: the one wish is for the file itself,
/// not for something in it.
using InsertInner = std::function<Result<SourcePtr>(const SourcePtr& file, const std::string& path,
                                                    const std::vector<Wish>& wishes, bool direct)>;

/// The bundle's files that change, by their paths: those that hold the partitions, and the texts
/// that name them. Errors: NotFound, Unsupported, those of `inner`.
[[nodiscard]] Result<std::map<std::string, SourcePtr>> insert_into_bundle(
    const Bundle& bundle, const std::vector<Wish>& wishes, const InsertInner& inner,
    const InsertOptions& options, InsertReport& report);

}  // namespace wexlo
