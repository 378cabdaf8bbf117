#pragma once
/// What comes after the edits: the image is packed with its journal and its way back, accounted for
/// and proved.

#include "recipe/journal.hpp"
#include "recipe/work.hpp"

namespace wexlo {

/// Packs everything into `work.out`, with the way back where it fits and leads to the stock image.
/// @param journal  what was done, the edits here among it
/// Errors: Unexplained (a byte differs that no edit meant to change), those of packing.
[[nodiscard]] Status write_patched(Work& work, Journal journal, const std::string& stock_sha256);

}  // namespace wexlo
