#pragma once
/// The tars that download-mode phones take, with the member names of their own packages.

#include "kit/folder/kit_folder.hpp"
#include "kit/folder/kit_layout.hpp"

namespace wexlo {

/// Writes one of them. @param room  what has to go in super for the images
/// Errors: those of reading, packing and writing.
[[nodiscard]] Status write_tar(KitFolder& folder, const TarPlan& tar, const KitImages& images,
                               const std::vector<RoomStep>& room, const LayoutInput& input,
                               bool stock);

}  // namespace wexlo
