#pragma once
/// A bundle of files as firmware: which of them hold partitions, under which names, and what the
/// texts among them say. The readers of the different kinds stand in one table in package.cpp.

#include "archive/bundle.hpp"
#include "firmware/opening.hpp"

namespace wexlo {

/// @param layer  the shell itself: kind and detail
/// Errors: NoPartitions (nothing in it is a partition), UnsafePath, and those of what lies inside.
[[nodiscard]] Result<FirmwarePtr> open_package(const Bundle& bundle, Layer layer,
                                               const Opening& opening);

[[nodiscard]] Result<FirmwarePtr> open_zip(const SourcePtr& source, const Opening& opening);
[[nodiscard]] Result<FirmwarePtr> open_tar_package(const SourcePtr& source, const Opening& opening);
/// A folder of images and packages. Errors: NotFound, those of open_package.
[[nodiscard]] Result<FirmwarePtr> open_folder(const std::filesystem::path& folder,
                                              const Opening& opening);

/// Several packages that make one set.
[[nodiscard]] Result<FirmwarePtr> merge(std::vector<FirmwarePtr> parts, Layer layer);

}  // namespace wexlo
