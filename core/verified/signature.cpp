#include "verified/signature.hpp"

#include "verified/openssl_key.hpp"

namespace wexlo::verified {

Result<bool> signature_is_true(View digest, DigestKind kind, View signature,
                               std::string_view key_text) {
  const Key key = read_pem_key(key_text);
  if (!key)
    return fail({.code = ErrorCode::BadValue,
                 .message = "the key does not read",
                 .expected = "PEM: a public key, a certificate or a private key",
                 .hint = "Show it with: openssl pkey -pubin -in FILE -text"});
  return verify_with(key.get(), kind, digest, signature);
}

}  // namespace wexlo::verified
