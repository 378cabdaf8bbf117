#pragma once
/// Signatures over OpenSSL.

#include "base/digest.hpp"

namespace wexlo::verified {

/// Is it a signature of the data with that digest? @param key  PEM: a public key, a certificate or
/// a private key. Errors: BadValue (a key that does not read).
[[nodiscard]] Result<bool> signature_is_true(View digest, DigestKind kind, View signature,
                                             std::string_view key);

}  // namespace wexlo::verified
