#pragma once
/// A kit's images in the chain of verified boot: made true with the user's own key, and judged as a
/// phone will judge them.

#include "firmware/stock_images.hpp"
#include "job/prepare.hpp"
#include "verified/chain.hpp"

namespace wexlo {

/// Signs what has to be signed for a phone that trusts the signer's key: the top-level struct, and
/// whatever leads from it to changed images. Images that have to change for it join the kit.
/// Errors: those of sealing; Unexplained (something besides structs and footers changed).
/// @param sheet  tells the partition of an image that has no footer yet; without it: Usage
[[nodiscard]] Status seal_kit(StockImages& stock, const verified::SignerPtr& signer,
                              const std::optional<Sheet>& sheet, Prepared& prepared,
                              const Context& context);

/// What a phone with these images on it does. @param key  a blob; empty: the stock firmware's
[[nodiscard]] Result<Verification> judge_kit(StockImages& stock, const Bytes& key,
                                             const Prepared& prepared, const Context& context);

}  // namespace wexlo
