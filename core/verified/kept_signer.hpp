#pragma once
/// Signing once more what was signed before, without the private key. A signature of RSA with
/// PKCS#1 v1.5 is always the same for the same bytes: one that holds is the one that the key would
/// make.

#include <span>

#include "verified/key.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::verified {

/// A signer by the signatures that stand in structs; nullptr: no struct has this key. It signs what
/// one of them has signed; anything else is BadSignature.
/// @param structs     of vbmeta images or of boot images' footers
/// @param key_sha256  of the public key's blob, lower-case hex
[[nodiscard]] SignerPtr kept_signer(std::span<const Image> structs, const std::string& key_sha256);

}  // namespace wexlo::verified
