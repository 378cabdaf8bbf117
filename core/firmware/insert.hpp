#pragma once
/// Other images in a package, whatever holds them: zips, tars, folders, numbered sets, super,
/// sparse and packed images, in any nesting. All that names a replaced file is renewed.

#include <filesystem>
#include <map>

#include "firmware/insert_wish.hpp"

namespace wexlo {

/// A package in one file. @param single  it is one image, perhaps packed: Firmware::single. What it
/// gives reads from the old package and the images: they have to stay. Errors: Unsupported (a
/// payload, a transfer list, a disk dump), DoesNotFit, those of reading and packing.
[[nodiscard]] Result<SourcePtr> insert_into(const SourcePtr& package, bool single,
                                            const std::vector<Wish>& wishes,
                                            const InsertOptions& options, InsertReport& report);

/// A package that is a folder: the files that change, by their paths in it.
[[nodiscard]] Result<std::map<std::string, SourcePtr>> insert_into_folder(
    const std::filesystem::path& folder, const std::vector<Wish>& wishes,
    const InsertOptions& options, InsertReport& report);

}  // namespace wexlo
