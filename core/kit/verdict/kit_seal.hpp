#pragma once
/// A kit's images signed again with the user's own key.

#include "firmware/stock_images.hpp"
#include "kit/facts/kit_image.hpp"
#include "kit/facts/sheet.hpp"
#include "verified/key.hpp"

namespace wexlo {

/// Signs what has to be signed for a phone that trusts the signer's key: the top-level struct, and
/// whatever leads from it to changed images. Images that have to change for it join the list.
/// Errors: those of sealing; Unexplained (something besides structs and footers changed).
/// @param sheet  tells the partition of an image that has no footer yet; without it: Usage
[[nodiscard]] Result<std::vector<Finding>> seal_kit(KitImages& images, StockImages& stock,
                                                    const verified::SignerPtr& signer,
                                                    const Sheet* sheet, const Context& context);

}  // namespace wexlo
