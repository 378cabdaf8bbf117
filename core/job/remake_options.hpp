#pragma once
/// How a kit was made, read out of it.

#include "job/prepare_options.hpp"
#include "kit/folder/kit.hpp"

namespace wexlo {

/// What `prepare` was told then. Each file of the kit that it is made from has to be the one that
/// its manifest names. Errors: Unsupported (an older version of Wexlo made it, which did not keep
/// all of that), DigestMismatch, NotFound, NotSigned, those of reading.
/// @param key  the owner's private key; empty: the signatures of the kit's images stand for it
[[nodiscard]] Result<PrepareOptions> options_of_kit(const Kit& kit, const std::string& key,
                                                    const Context& context);

}  // namespace wexlo
